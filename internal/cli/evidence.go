package cli

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/seal"
	"innerladder/internal/wire"
)

func showEvidence(c *call) func(context.Context) error {
	c.connect()
	out := c.flags.String("o", "", "`FILE` to write the file of a report to")
	return func(ctx context.Context) error {
		of := c.args[0]
		if !strings.Contains(of, "@") {
			e, err := c.api.Report(ctx, of)
			if err == nil && *out != "" {
				return c.writeReport(ctx, of, *out)
			}
			return c.show(e, err, func() { printEvidence(c.Out, e) })
		}
		if *out != "" {
			return wrongUse("say with E-NUMBER which report is written to %s", *out)
		}
		found, err := c.api.Evidence(ctx, of)
		return c.show(found, err, func() {
			if len(found.Items) == 0 {
				c.say("nothing is attached; attach a report with: innerladder attach %s -kind tests FILE", of)
				return
			}
			t := newTable(c.Out, "ID", "KIND", "VERDICT", "FILE", "SAYS", "BY", "WHEN")
			for _, e := range found.Items {
				t.row(e.ID, e.Kind, e.Verdict, e.Name, e.Says, e.AddedBy, moment(e.AddedAt))
			}
			t.done()
		})
	}
}

func evidenceCommands() []command {
	return []command{
		{
			name: "evidence", group: "Ladder", arguments: "REF | E-NUMBER",
			summary: "List the reports of a version, or show one", least: 1, most: 1,
			example: "innerladder evidence heat-demand@2\ninnerladder evidence E-8 -o report.json",
			setup:   showEvidence,
		},
		{
			name: "verify", group: "Ladder", arguments: "REF",
			summary: "Check who vouched for a version, and whether it still fits the bytes that are stored; exits " +
				"3 when not", least: 1, most: 1,
			example: "innerladder verify heat-demand@2 -export signed.jsonl", setup: verify,
		},
		{
			name: "signing-key make", group: "Ladder", arguments: "FILE",
			summary: "Make a key of your own to sign with, and make its public half known", least: 1, most: 1,
			example: "innerladder signing-key make ~/.innerladder-sign.pem -title laptop", setup: makeSigningKey,
		},
		{
			name: "signing-key end", group: "Ladder", arguments: "FINGERPRINT",
			summary: "Say that a key of yours signs nothing any more", least: 1, most: 1,
			example: "innerladder signing-key end SHA256:…",
			setup: asks(func(ctx context.Context, c *call) error {
				k, err := c.api.EndSigningKey(ctx, c.args[0])
				return c.show(k, err, func() {
					fmt.Fprintf(c.Out,
						"%s signs nothing any more; what it signed stays signed\n", k.Fingerprint)
				})
			}),
		},
		{
			name: "signing-keys", group: "Ladder", summary: "List the keys with which you sign, and the service",
			most:    0,
			example: "innerladder signing-keys",
			setup: asks(func(ctx context.Context, c *call) error {
				found, err := c.api.SigningKeys(ctx)
				return c.show(found, err, func() {
					t := newTable(c.Out, "FINGERPRINT", "OWNER", "TITLE", "PUBLIC KEY", "ENDED")
					for _, k := range found.Items {
						ended := ""
						if k.EndedAt != nil {
							ended = moment(*k.EndedAt)
						}
						t.row(k.Fingerprint, k.Owner, k.Title, base64.StdEncoding.EncodeToString(k.Public), ended)
					}
					t.done()
				})
			}),
		},
	}
}

// keyBlock is the kind of PEM block that a private key is kept in (PKCS 8).
const keyBlock = "PRIVATE KEY"

func makeSigningKey(c *call) func(context.Context) error {
	c.connect()
	title := c.flags.String("title", "", "`TEXT` by which you know it again")
	return func(ctx context.Context) error {
		public, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		b, err := x509.MarshalPKCS8PrivateKey(private)
		if err != nil {
			return err
		}
		// Only its owner can read it, and no other key is overwritten.
		f, err := os.OpenFile(c.args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, os.ErrExist) {
			return wrongUse("%s is there already; name another file", c.args[0])
		}
		if err != nil {
			return err
		}
		if err := errors.Join(pem.Encode(f, &pem.Block{Type: keyBlock, Bytes: b}), f.Close()); err != nil {
			return err
		}
		k, err := c.api.AddSigningKey(ctx, base64.StdEncoding.EncodeToString(public), *title)
		if err != nil {
			return errors.Join(err, os.Remove(c.args[0]))
		}
		return c.show(k, nil, func() {
			fmt.Fprintf(c.Out, "%s\n", k.Fingerprint)
			c.say("the key is in %s; keep it to yourself, and sign with: innerladder sign P-1 -yes -key %s", c.args[0],
				c.args[0])
		})
	}
}

// signer signs with a key of one's own.
type signer struct{ key ed25519.PrivateKey }

func (s signer) Sign(message []byte) []byte { return ed25519.Sign(s.key, message) }

func (s signer) Public() ed25519.PublicKey { return s.key.Public().(ed25519.PublicKey) }

// signOneself signs the statement of an answer with the key in a file.
func (c *call) signOneself(ctx context.Context, promotion, file string, n *wire.NewAnswer) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return wrongUse("%v", err)
	}
	block, _ := pem.Decode(b)
	if block == nil || block.Type != keyBlock {
		return wrongUse("%s holds no private key; make one with: innerladder signing-key make FILE", file)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(ed25519.PrivateKey)
	if err != nil || !ok {
		return wrongUse("%s holds no Ed25519 key; make one with: innerladder signing-key make FILE", file)
	}
	st, err := c.api.Statement(ctx, promotion, *n)
	if err != nil {
		return err
	}
	body, err := base64.StdEncoding.DecodeString(st.Payload)
	if err != nil {
		return fmt.Errorf("reading the statement: %w", err)
	}
	// Nobody signs unread what a service sends: it must say what was just answered.
	if err := saysWhatIMean(body, promotion, *n); err != nil {
		return err
	}
	n.Envelope, err = seal.Envelop(ctx, st.PayloadType, body, signer{key})
	return err
}

func saysWhatIMean(body []byte, promotion string, n wire.NewAnswer) error {
	var st struct {
		Predicate struct{ Promotion, Answer, Note, HandedTo string }
	}
	if err := json.Unmarshal(body, &st); err != nil {
		return fmt.Errorf("reading the statement: %w", err)
	}
	if p := st.Predicate; !strings.EqualFold(p.Promotion, promotion) || p.Answer != string(n.Answer) ||
		p.Note != n.Note || p.HandedTo != n.To {
		return fmt.Errorf("the service wants %q signed about %s; that is not what was answered, so nothing was signed",
			p.Answer, p.Promotion)
	}
	return nil
}

func verify(c *call) func(context.Context) error {
	c.connect()
	export := c.flags.String("export", "",
		"`FILE` to write the signed envelopes to, one a line, for checking elsewhere")
	return func(ctx context.Context) error {
		found, err := c.api.Vouchers(ctx, c.args[0])
		if err != nil {
			return err
		}
		if *export != "" {
			var b strings.Builder
			for _, st := range found.Statements {
				b.Write(append(st.Envelope, '\n'))
			}
			if err := os.WriteFile(*export, []byte(b.String()), 0o644); err != nil {
				return err
			}
			c.say("%d envelopes are in %s", len(found.Statements), *export)
		}
		if err := c.show(found, nil, func() { printVouchers(c.Out, found) }); err != nil {
			return err
		}
		if !found.Sound {
			return refused("not everything fits")
		}
		return nil
	}
}

func printVouchers(w io.Writer, v wire.Vouchers) {
	fmt.Fprintf(w, "%s stands on %s; digest %s\n", v.Version, v.Rung, v.Digest)
	for _, f := range v.Files {
		mark, why := "right  ", ""
		switch f.State {
		case "changed":
			mark, why = "WRONG  ", ", its bytes were changed"
		case "missing":
			mark, why = "MISSING", ""
		case "elsewhere":
			mark, why = "-      ", ", kept elsewhere; only the digest is known"
		}
		if f.ReadAt != nil && f.State != "missing" {
			why += ", read at " + f.ReadAt.UTC().Format("2006-01-02 15:04 MST")
		}
		fmt.Fprintf(w, "  %s  file %s, sha256 %s%s\n", mark, f.Name, f.Digest[:12], why)
	}
	if len(v.Statements) == 0 {
		fmt.Fprintln(w, "  nobody vouched for it")
	}
	for _, s := range v.Statements {
		mark := "right  "
		if !s.Genuine || !s.Fits {
			mark = "WRONG  "
		}
		counts := ""
		if !s.Counts {
			counts = ", does not count any more"
		}
		whose := "key of the service"
		switch {
		case s.KeyOwner == s.By:
			whose = "own key"
		case s.KeyOwner == "":
			whose = "unknown key"
		}
		said := map[rule.Answer]string{
			rule.Yes: "said yes", rule.No: "said no", rule.Later: "answers later",
			rule.HandOver: "handed it over",
		}[s.Answer]
		printLine(w, "  %s  %s %s: %s %s, %s%s %s", mark, s.Promotion, s.To, s.By, said,
			s.At.Format("2006-01-02 15:04"), counts, quote(s.Note))
		printLine(w, "           %s %s", whose, s.Key)
		for _, p := range s.Problems {
			fmt.Fprintf(w, "           %s\n", p)
		}
	}
}

// shownRows is how many parts and rows of an evaluation are printed.
const shownRows = 8

// printEvaluation shows what an evaluation that the service made has beyond its measures.
func printEvaluation(w io.Writer, e *evidence.Evaluation) {
	if len(e.Bounds) > 0 {
		t := newTable(w, "MEASURE", "VALUE", "AT 95 %")
		for _, name := range slices.Sorted(maps.Keys(e.Metrics)) {
			bounds := ""
			if b, there := e.Bounds[name]; there {
				bounds = fmt.Sprintf("%.4g to %.4g", b[0], b[1])
			}
			t.row(name, fmt.Sprintf("%.4g", e.Metrics[name]), bounds)
		}
		t.done()
	}
	for _, why := range e.Undefined {
		fmt.Fprintf(w, "  %s\n", why)
	}
	printClasses(w, e.Classes)
	if len(e.Quantiles) > 0 {
		var parts []string
		for _, q := range e.Quantiles {
			parts = append(parts, fmt.Sprintf("%g %% %.4g", 100*q.Share, q.Value))
		}
		fmt.Fprintf(w, "\nprediction less truth, so many rows are below: %s\n", strings.Join(parts, ", "))
	}
	printGroups(w, e.Groups)
	if j := e.Judged; j != nil {
		printParts(w, e.Segments, "VALUE", "surely worse than all")
		if len(e.Worst) > 0 {
			fmt.Fprintln(w)
			t := newTable(w, "WORST ROWS", "TRUTH", "PREDICTED")
			for _, r := range e.Worst[:min(len(e.Worst), shownRows)] {
				t.row(strconv.FormatInt(r.Row, 10), plain(r.Truth), plain(r.Predicted))
			}
			t.done()
		}
		if e.Against != nil {
			printAgainst(w, e.Against)
		}
		left := ""
		if j.LeftOut > 0 {
			left = fmt.Sprintf("; %d rows without truth were left out", j.LeftOut)
		}
		fmt.Fprintf(w, "\n%s of %s beside %s of %s (sha256 %.12s), in %s, judged by %s%s\n", j.Output, j.Version,
			j.Target, j.Table, j.Digest, j.Job, j.By, left)
	}
}

// printClasses shows the measures of each class.
func printClasses(w io.Writer, all []evidence.ClassMeasures) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(w)
	t := newTable(w, "CLASS", "ROWS", "PRECISION", "RECALL", "F1", "ROC AUC", "PR AUC")
	for _, c := range all {
		cells := []string{c.Class, strconv.FormatFloat(c.Rows, 'g', 6, 64)}
		for _, x := range []*float64{c.Precision, c.Recall, c.F1, c.ROCAUC, c.PRAUC} {
			if x == nil {
				cells = append(cells, "")
			} else {
				cells = append(cells, fmt.Sprintf("%.4g", *x))
			}
		}
		t.row(cells...)
	}
	t.done()
}

// printGroups shows quality and predictions by the groups of sensitive columns.
func printGroups(w io.Writer, all []evidence.Group) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(w)
	t := newTable(w, "SENSITIVE", "ROWS", "QUALITY", "PREDICTIONS")
	said := func(of map[string]evidence.Between) string {
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(of)) {
			x := of[name]
			parts = append(parts, fmt.Sprintf("%s %.4g (%.4g to %.4g)", name, x.Value, x.Low, x.High))
		}
		return strings.Join(parts, ", ")
	}
	for _, g := range all {
		t.row(g.Column+": "+g.Level, count(uint64(g.Rows)), said(g.Quality), said(g.Predictions))
	}
	t.done()
}

// plain writes a value of a row in a few digits.
func plain(v any) string {
	if x, is := v.(float64); is {
		return strconv.FormatFloat(x, 'g', 6, 64)
	}
	return fmt.Sprint(v)
}

// printParts shows parts of the rows, those that are worst first.
func printParts(w io.Writer, parts []evidence.Segment, value, worse string) {
	if len(parts) == 0 {
		return
	}
	fmt.Fprintln(w)
	t := newTable(w, "PART OF THE ROWS", "ROWS", "MEASURE", value, "")
	for _, s := range parts[:min(len(parts), shownRows)] {
		for name, x := range s.Metrics {
			t.row(s.Name, count(uint64(s.Rows)), name, fmt.Sprintf("%.4g", x), map[bool]string{true: worse}[s.Worse])
		}
	}
	t.done()
}

// printAgainst shows how a version compares with another on the same rows.
func printAgainst(w io.Writer, a *evidence.Beside) {
	left := ""
	if a.LeftOut > 0 {
		left = fmt.Sprintf("; %d that %s did not answer are left out", a.LeftOut, a.Version)
	}
	fmt.Fprintf(w, "\nbeside %s on the same %d rows%s\n", a.Version, a.Rows, left)
	t := newTable(w, "MEASURE", "IS", "WAS", "DIFFERENCE", "AT 95 %", "")
	for _, d := range a.Differences {
		bounds := ""
		if d.Bounds != nil {
			bounds = fmt.Sprintf("%+.4g to %+.4g", d.Bounds[0], d.Bounds[1])
		}
		t.row(d.Metric, fmt.Sprintf("%.4g", d.Is), fmt.Sprintf("%.4g", d.Was), fmt.Sprintf("%+.4g", d.Difference),
			bounds, string(d.Verdict))
	}
	t.done()
	printParts(w, a.Segments, "DIFFERENCE", "surely worse there")
	if len(a.Worst) > 0 {
		fmt.Fprintln(w)
		t := newTable(w, "WHERE IT LOSES MOST", "TRUTH", "PREDICTED", a.Version)
		for _, r := range a.Worst[:min(len(a.Worst), shownRows)] {
			t.row(strconv.FormatInt(r.Row, 10), plain(r.Truth), plain(r.Predicted), plain(r.Other))
		}
		t.done()
	}
}

func printEvidence(w io.Writer, e evidence.Evidence) {
	fmt.Fprintf(w, "%s: %s of %s, %s\n", e.ID, e.Kind, e.Version,
		map[string]string{"passed": "passed", "failed": "FAILED", "none": "no verdict"}[e.Verdict])
	facts(w, "  file", e.Name+", "+size(e.Size), "  sha256", e.Digest, "  says", e.Says, "  by",
		e.AddedBy+", "+moment(e.AddedAt), "  metrics", metrics(e.Metrics, nil))
	if e.Evaluation != nil {
		printEvaluation(w, e.Evaluation)
	}
	if e.Replay != nil {
		printReplay(w, e.Replay)
	}
	if e.Importance != nil {
		printImportance(w, e.Importance)
	}
	if e.Robustness != nil {
		printRobustness(w, e.Robustness)
	}
	if t := e.Tests; t != nil {
		for _, f := range t.Failed {
			fmt.Fprintf(w, "  failed  %s: %s\n", f.Name, f.Message)
		}
	}
}
