// Command record measures the record at size: how quickly searches of it answer, through
// the API of the real service; how quickly its chain is verified on one core, beside a
// plain reading of the same rows and a plain hashing of the same bytes; and how much an
// entry adds to the change that it records.
package main

import (
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/app/secrets"
	"innerladder/internal/client"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/record"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/wire"

	"golang.org/x/crypto/blake2b"
)

var (
	lines  = flag.Int("lines", 10_000_000, "`N` lines of the record")
	dir    = flag.String("dir", "", "`DIR` with a record that was filled before; a new temporary one when not given")
	rounds = flag.Int("rounds", 60, "`N` searches of each kind")
)

func main() {
	flag.Parse()
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "record:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	data := *dir
	if data == "" {
		made, err := os.MkdirTemp("", "bench-record-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(made)
		data = made
	}
	path := filepath.Join(data, "ladder.db")
	if _, err := os.Stat(path); err != nil {
		begin := time.Now()
		if err := fill(ctx, data, path); err != nil {
			return err
		}
		fmt.Printf("filled in %s\n", time.Since(begin).Round(time.Second))
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	fmt.Printf("%d lines; database %.0f MiB, %.0f bytes a line\n", *lines, float64(info.Size())/(1<<20),
		float64(info.Size())/float64(*lines))
	return errors.Join(search(ctx, data), verify(ctx, data, path), write(ctx))
}

// kindsOf are what happens, with how often.
var kindsOf = []struct {
	kind  string
	often int
}{
	{"run.ended", 300},
	{"run.started", 300},
	{"version.registered", 200},
	{"placement.fell", 40},
	{"placement.recovered", 40},
	{"split.made", 40},
	{"promotion.opened", 20},
	{"promotion.signed", 20},
	{"promotion.carried_out", 15},
	{"label.moved", 10},
	{"alert.raised", 8},
	{"comment.made", 5},
	{"member.added", 1},
	{"secret.set", 1},
}

const (
	people   = 200
	projects = 40
	models   = 2000
)

// some picks a number below n, small ones far more often, as activity is spread.
func some(r *rand.Rand, n int) int { return int(float64(n) * r.Float64() * r.Float64() * r.Float64()) }

var words = []string{
	"winter", "harbour", "terraces", "works", "wind", "solar", "boiler", "pump", "valve", "return",
	"supply", "calm", "storm", "night", "holiday", "pressure", "leak", "sensor", "drift", "retrained",
}

func fill(ctx context.Context, data, path string) error {
	keys, err := seal.Open(filepath.Join(data, "key"), false)
	if err != nil {
		return err
	}
	s, err := records.Open(ctx, path)
	if err != nil {
		return err
	}
	at := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	if _, err := secrets.Unlock(ctx, s, keys, at); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(4, 2))
	total := 0
	for _, k := range kindsOf {
		total += k.often
	}
	const batch = 20_000
	for done := 0; done < *lines; done += batch {
		if err := s.Write(ctx, records.Everything, func(w records.View) error {
			for i := range batch {
				pick, n := kindsOf[0].kind, r.IntN(total)
				for _, k := range kindsOf {
					if n -= k.often; n < 0 {
						pick = k.kind
						break
					}
				}
				model := some(r, models)
				e := record.Entry{
					At:      at.Add(time.Duration(done+i) * 8 * time.Second),
					Project: fmt.Sprintf("project-%02d", model%projects),
					Actor:   fmt.Sprintf("person-%03d", some(r, people)), Kind: pick,
					Subject:  fmt.Sprintf("model-%04d@%d", model, r.IntN(50)),
					Sentence: fmt.Sprintf("model-%04d was touched by the %s.", model, words[r.IntN(len(words))]),
					Address:  "10.1.2.3", RequestID: "01a208a7-d9f5-7661-948b-3f24a7b1654b",
				}
				if r.IntN(4) == 0 {
					e.Reason = words[r.IntN(len(words))] + " " + words[r.IntN(len(words))] +
						fmt.Sprint(" ", r.IntN(100_000))
				}
				if err := w.AddEntry(ctx, &e); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
		if done%1_000_000 == 0 {
			fmt.Printf("%d lines filled\n", done+batch)
		}
	}
	begin := time.Now()
	if err := s.IndexRecord(ctx); err != nil {
		return err
	}
	fmt.Printf("indexed in %s\n", time.Since(begin).Round(time.Second))
	return s.Close()
}

// question is a kind of search of the record.
type question struct {
	name string
	q    func() map[string]string
}

// questions lists what people ask of the record.
func questions(r *rand.Rand) []question {
	person := func() string { return fmt.Sprintf("person-%03d", some(r, people)) }
	moment := func() time.Time {
		return time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(r.IntN(*lines)) * 8 * time.Second)
	}
	kind := func() string { return kindsOf[r.IntN(len(kindsOf))].kind }
	word := func() string { return words[r.IntN(len(words))] }
	return []question{
		{"nothing", func() map[string]string { return nil }},
		{"kind", func() map[string]string { return map[string]string{"kind": kind()} }},
		{"class of kinds", func() map[string]string { return map[string]string{"kind": "promotion"} }},
		{"person", func() map[string]string { return map[string]string{"actor": person()} }},
		{"person and kind", func() map[string]string { return map[string]string{"actor": person(), "kind": kind()} }},
		{"version", func() map[string]string {
			return map[string]string{"subject": fmt.Sprintf("model-%04d@%d", some(r, models), r.IntN(50))}
		}},
		{"model and kind", func() map[string]string {
			return map[string]string{"subject": fmt.Sprintf("model-%04d", some(r, models)), "kind": kind()}
		}},
		{"project and person", func() map[string]string {
			return map[string]string{"project": fmt.Sprintf("project-%02d", r.IntN(projects)), "actor": person()}
		}},
		{"a day", func() map[string]string {
			t := moment()
			return map[string]string{
				"after": t.Format(time.RFC3339),
				"until": t.Add(24 * time.Hour).Format(time.RFC3339),
			}
		}},
		{"a day and a person", func() map[string]string {
			t := moment()
			return map[string]string{
				"after": t.Format(time.RFC3339),
				"until": t.Add(24 * time.Hour).Format(time.RFC3339), "actor": person(),
			}
		}},
		{"a common word", func() map[string]string { return map[string]string{"text": word()} }},
		{"two words and a kind", func() map[string]string {
			return map[string]string{
				"text": word() + " " + word(),
				"kind": kind(),
			}
		}},
		{"a rare word", func() map[string]string { return map[string]string{"text": fmt.Sprint(r.IntN(100_000))} }},
		{"a word, a person, a kind", func() map[string]string {
			return map[string]string{
				"text":  word(),
				"actor": person(), "kind": kind(),
			}
		}},
		{"a beginning", func() map[string]string { return map[string]string{"text": "harbo"} }},
	}
}

// search asks the real service, one search after the other, in a random order of kinds.
func search(ctx context.Context, data string) error {
	h, err := house.Start("./bin/innerladder", data)
	if err != nil {
		return err
	}
	defer h.Stop()
	c := client.New(h.Server, h.Token)
	r := rand.New(rand.NewPCG(9, 9))
	asks := questions(r)
	took := make([][]time.Duration, len(asks))
	var all []time.Duration
	for range *rounds {
		for _, i := range r.Perm(len(asks)) {
			q := asks[i].q()
			begin := time.Now()
			if _, err := c.Audit(ctx, q, client.Part{Limit: 50}); err != nil {
				if client.Code(err) == "project.unknown" { // the bench has no projects, only lines about them
					continue
				}
				return err
			}
			d := time.Since(begin)
			took[i], all = append(took[i], d), append(all, d)
		}
	}
	fmt.Printf("\n%-26s %9s %9s %9s\n", "search, first 50 of", "p50", "p95", "worst")
	for i, a := range asks {
		if len(took[i]) > 0 {
			fmt.Printf("%-26s %9s %9s %9s\n", a.name, at(took[i], 0.5), at(took[i], 0.95), at(took[i], 1))
		}
	}
	now, most := h.Memory()
	fmt.Printf("%-26s %9s %9s %9s   %d searches; memory of the service %s, at most %s\n\n", "all", at(all, 0.5),
		at(all, 0.95), at(all, 1), len(all), now, most)
	return nil
}

func at(d []time.Duration, p float64) string {
	d = slices.Sorted(slices.Values(d))
	return fmt.Sprintf("%.1f ms", float64(d[min(len(d)-1, int(p*float64(len(d))))].Microseconds())/1000)
}

// verify verifies the chain on one core, beside a reading of the same rows and a hashing
// of as many bytes.
func verify(ctx context.Context, data, path string) error {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // as the service sets it
	keys, err := seal.Open(filepath.Join(data, "key"), true)
	if err != nil {
		return err
	}
	s, err := records.Open(ctx, path)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := secrets.Unlock(ctx, s, keys, time.Now()); err != nil {
		return err
	}
	begin := time.Now()
	v, err := s.VerifyRecord(ctx, nil)
	if err != nil {
		return err
	}
	ours := time.Since(begin)
	if !v.Intact() {
		return fmt.Errorf("the record is not intact: %+v", v.Breaks)
	}
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return err
	}
	defer db.Close()
	begin = time.Now()
	rows, err := db.QueryContext(ctx, `SELECT line FROM record ORDER BY seq`)
	if err != nil {
		return err
	}
	bytes, n := 0, 0
	var line sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&line); err != nil {
			return err
		}
		bytes, n = bytes+len(line), n+1
	}
	_ = rows.Close()
	reading := time.Since(begin)
	block := make([]byte, bytes/n)
	begin = time.Now()
	for range n {
		blake2b.Sum256(block)
	}
	hashing := time.Since(begin)
	rate := func(d time.Duration) float64 { return float64(v.Lines) / d.Seconds() }
	fmt.Printf("verifying the chain on one core: %.0f lines a second (%s); the same rows read by database/sql %.0f a "+
		"second, as many bytes hashed %.0f a second: %.2f times the reading, %.2f times the hashing\n\n",
		rate(ours), ours.Round(time.Millisecond), rate(reading), rate(hashing), ours.Seconds()/reading.Seconds(),
		ours.Seconds()/hashing.Seconds())
	return nil
}

// write makes the same change with and without its entry, in turn.
func write(ctx context.Context) error {
	data, err := os.MkdirTemp("", "bench-record-write-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	s, err := records.Open(ctx, filepath.Join(data, "ladder.db"))
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.SignWith(ctx, seal.NewSigner(seal.NewSeed())); err != nil {
		return err
	}
	var took [2][]time.Duration
	for i := range 1200 {
		with := i % 2
		d := lineage.DataSet{
			Name: fmt.Sprintf("winters-%d", i), Project: "default",
			Address: "https://data.tarnholm.example/winters.csv", AddedBy: "runa", AddedAt: time.Now(),
		}
		begin := time.Now()
		if err := s.Write(ctx, records.Everything, func(w records.View) error {
			if err := w.AddDataSet(ctx, &d); err != nil || with == 0 {
				return err
			}
			e := record.Entry{
				At: time.Now(), Project: "default", Actor: "runa", Kind: "data.added", Subject: d.Ref,
				Sentence: "The data set " + d.Ref + " was added.",
			}
			return w.AddEntry(ctx, &e)
		}); err != nil {
			return err
		}
		took[with] = append(took[with], time.Since(begin))
	}
	median := func(d []time.Duration) float64 {
		d = slices.Sorted(slices.Values(d))
		return d[len(d)/2].Seconds()
	}
	entry := median(took[1]) - median(took[0])
	// The same change as it is made: through the API of the real service.
	h, err := house.Start("./bin/innerladder", filepath.Join(data, "service"))
	if err != nil {
		return err
	}
	defer h.Stop()
	c := client.New(h.Server, h.Token)
	var calls []time.Duration
	for i := range 600 {
		begin := time.Now()
		if _, err := c.AddDataSet(ctx,
			wire.NewDataSet{
				Name:    fmt.Sprintf("winters-%d", i),
				Address: "https://data.tarnholm.example/winters.csv",
			}); err != nil {
			return err
		}
		calls = append(calls, time.Since(begin))
	}
	fmt.Printf("adding a data set in the store: %.3f ms, with its entry %.3f ms; through the API %.3f ms, so the "+
		"entry adds %.1f %% to the change (medians of 600 each; synchronous=FULL)\n",
		median(took[0])*1000, median(took[1])*1000, median(calls)*1000, 100*entry/(median(calls)-entry))
	return nil
}
