// Command catalogue measures how quickly the service finds things in a large registry:
// it fills a data directory with a seeded generator (1 000 models, 100 000 versions, 2
// million metric values, 1 million links), starts the real binary on it, and asks over
// the API on loopback. See bench/RESULTS.md.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/records"
)

var (
	models   = flag.Int("models", 1000, "models")
	versions = flag.Int("versions", 100, "versions of each model")
	metrics  = flag.Int("metrics", 20, "metric values of each version")
	links    = flag.Int("links", 10, "lineage links of each version")
	seed     = flag.Uint64("seed", 1, "of the generator")
	binary   = flag.String("binary", "bin/innerladder", "the service")
	data     = flag.String("data", "",
		"data directory; filled when it is not there yet, a temporary one when not given")
	rounds = flag.Int("rounds", 400, "requests of each kind")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		log.Fatal(err)
	}
}

func run() error {
	dir := *data
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "innerladder-catalogue-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	path := filepath.Join(dir, "ladder.db")
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		begin := time.Now()
		if err := fill(path); err != nil {
			return err
		}
		fmt.Printf("filled in %s\n", time.Since(begin).Round(time.Second))
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	n := *models * *versions
	fmt.Printf("%d models, %d versions, %d metric values, about %d links; database %.0f MiB, %.1f KiB a version\n",
		*models, n, n**metrics, n**links, float64(info.Size())/(1<<20), float64(info.Size())/1024/float64(n))
	return ask(dir)
}

var (
	words = strings.Fields("winter summer harbour terraces works old-town wind solar boiler pump valve return " +
		"supply hourly daily tuned calm storm night holiday pressure flow leak sensor drift shift retrained " +
		"quantized baseline candidate")
	tags    = strings.Fields("winter summer pilot edge nightly audited large small fast slow")
	formats = strings.Fields("onnx safetensors json pmml pickle")
	owners  = strings.Fields("runa tove odd kari liv")
)

// fill writes the records, a model in each transaction.
func fill(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	ctx := context.Background()
	s, err := records.Open(ctx, path)
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(*seed, 7))
	begin := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	const dataSets = 500
	if err := s.Write(ctx, records.Everything, func(w records.View) error {
		for d := range dataSets {
			if err := w.AddDataSet(ctx, &lineage.DataSet{
				Name:   fmt.Sprintf("winters-%03d", d),
				Digest: fmt.Sprintf("%064x", d), Rows: 1000, AddedBy: "runa", AddedAt: begin,
			}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	for m := range *models {
		if err := s.Write(ctx, records.Everything, func(w records.View) error {
			return fillModel(ctx, w, r, m, dataSets,
				begin)
		}); err != nil {
			return err
		}
		if m%100 == 99 {
			fmt.Printf("%d models filled\n", m+1)
		}
	}
	return s.Close()
}

func fillModel(ctx context.Context, w records.View, r *rand.Rand, m, dataSets int, begin time.Time) error {
	pick := func(from []string) string { return from[r.IntN(len(from))] }
	model := registry.Model{
		Name: fmt.Sprintf("%s-%s-%03d", pick(words), pick(words), m), Project: "default",
		Task: []registry.Task{registry.Regression, registry.Classification}[m%2], Owner: pick(owners),
		Description: pick(words) + " " + pick(words) + " of the town", CreatedBy: "runa", CreatedAt: begin,
	}
	if err := w.AddModel(ctx, model); err != nil {
		return err
	}
	for n := range *versions {
		v := madeUp(r, model.Name, m, n, dataSets, begin)
		if err := w.AddVersion(ctx, v); err != nil {
			return err
		}
		subject := records.Subject{Model: v.Model, Number: v.Number}
		if r.IntN(3) == 0 {
			if err := w.Tag(ctx, subject, pick(tags), true); err != nil {
				return err
			}
		}
		if n == *versions-2 {
			if err := w.PutLabel(ctx, registry.Label{
				Name: "beta", Version: v.Ref, MovedBy: "runa",
				MovedAt: v.CreatedAt,
			}); err != nil {
				return err
			}
		}
		if err := w.IndexVersions(ctx, v.Ref); err != nil {
			return err
		}
	}
	return nil
}

// madeUp is the n-th version of the m-th model.
func madeUp(r *rand.Rand, model string, m, n, dataSets int, begin time.Time) *registry.Version {
	pick := func(from []string) string { return from[r.IntN(len(from))] }
	v := &registry.Version{
		Model: model, Digest: fmt.Sprintf("%032x%032x", r.Uint64(), r.Uint64()),
		Note: pick(words) + " " + pick(words) + " " + pick(words), Rung: "draft", CreatedBy: pick(owners),
		CreatedAt: begin.Add(time.Duration(m**versions+n) * 10 * time.Minute), Metrics: map[string]float64{},
		Params: map[string]string{"depth": fmt.Sprint(r.IntN(12)), "rate": fmt.Sprint(r.Float64())},
		Artifacts: []registry.Artifact{{
			Name: "model.bin", Digest: fmt.Sprintf("%064x", r.Uint64()),
			Size: int64(r.IntN(1 << 30)), Stored: true, Contents: registry.Contents{Format: pick(formats)},
		}},
		Signature: &signature.Signature{
			Inputs: []signature.Column{
				{Name: "outdoor_c", Type: signature.Number},
				{Name: "wind_ms", Type: signature.Number},
			},
			Outputs: []signature.Column{{Name: "y", Type: signature.Number}},
		},
		Card: &registry.Card{
			Text: "# " + model + "\n\n" +
				strings.Repeat(pick(words)+" "+pick(words)+" ", 20),
			Licence: []string{"MIT", "internal", "CC-BY-4.0"}[r.IntN(3)],
		},
		Code: &lineage.Code{
			Repository: "https://git.tarnholm.example/heat",
			Commit:     fmt.Sprintf("%040x", r.IntN(5000)),
		},
	}
	v.RungSince = v.CreatedAt
	if r.IntN(20) == 0 {
		v.Rung = []string{"proven", "rehearsal", "live", "retired"}[r.IntN(4)]
	}
	for k := range *metrics {
		v.Metrics[[]string{"rmse", "mae", "r2", "bias"}[k%4]+
			[]string{"", "_winter", "_summer", "_night", "_storm"}[k/4%5]] = r.Float64()
	}
	seen := map[string]bool{}
	for len(v.Data) < *links-3 {
		d := fmt.Sprintf("winters-%03d#1", r.IntN(dataSets))
		if !seen[d] {
			seen[d] = true
			v.Data = append(v.Data, lineage.DataUse{Data: d, Role: lineage.TrainedOn})
		}
	}
	for p := 1; p <= 2 && n-p >= 0; p++ {
		v.Parents = append(v.Parents, lineage.Parent{
			Version:  fmt.Sprintf("%s@%d", model, n+1-p),
			Relation: "fine-tuned",
		})
	}
	return v
}

// ask starts the service and measures.
func ask(dir string) error {
	h, err := house.Start(*binary, dir)
	if err != nil {
		return err
	}
	defer h.Stop()
	return measure(h)
}

// kind is one kind of request.
type kind struct {
	name string
	path func(r *rand.Rand, names []string) string
}

func kinds() []kind {
	find := func(pairs ...string) func(*rand.Rand, []string) string {
		return func(r *rand.Rand, names []string) string {
			q := url.Values{}
			for i := 0; i+1 < len(pairs); i += 2 {
				value := pairs[i+1]
				for placeholder, from := range map[string][]string{
					"WORD": words, "TAG": tags, "FORMAT": formats,
					"OWNER": owners, "RUNG": {"proven", "rehearsal", "live", "draft"},
				} {
					for strings.Contains(value, placeholder) {
						value = strings.Replace(value, placeholder, from[r.IntN(len(from))], 1)
					}
				}
				value = strings.Replace(value, "LOW", fmt.Sprintf("%.3f", r.Float64()), 1)
				value = strings.Replace(value, "DATA", fmt.Sprintf("winters-%03d", r.IntN(500)), 1)
				value = strings.Replace(value, "MODEL", names[r.IntN(len(names))], 1)
				q.Add(pairs[i], value)
			}
			return "/catalogue?" + q.Encode()
		}
	}
	ref := func(r *rand.Rand, names []string) string {
		return fmt.Sprintf("%s@%d", names[r.IntN(len(names))], 1+r.IntN(*versions))
	}
	return []kind{
		{"list models", func(r *rand.Rand, _ []string) string { return "/models?limit=50" }},
		{"list versions of a model", func(r *rand.Rand, n []string) string {
			return "/models/" + n[r.IntN(len(n))] + "/versions?limit=50"
		}},
		{"show a model", func(r *rand.Rand, n []string) string { return "/models/" + n[r.IntN(len(n))] }},
		{"show a version", func(r *rand.Rand, n []string) string { return "/versions/" + ref(r, n) }},
		{"newest of all", find("limit", "50")},
		{"one rung", find("rung", "RUNG")},
		{"tag and format", find("tag", "TAG", "format", "FORMAT")},
		{"owner, task, rung", find("owner", "OWNER", "task", "regression", "rung", "RUNG")},
		{"metric below", find("metric", "rmse<LOW")},
		{"two metrics, sorted by one", find("metric", "rmse<0.3", "metric", "r2>0.7", "sort", "rmse")},
		{"sorted by a metric", find("sort", "mae_winter")},
		{"live, sorted by a metric", find("rung", "live", "sort", "rmse")},
		{"label", find("label", "beta", "sort", "rmse")},
		{"trained on a data set", find("data", "DATA", "sort", "rmse")},
		{"search a word", find("text", "WORD")},
		{"search two words", find("text", "WORD WORD")},
		{"search, filter and sort", find("text", "WORD WORD", "format", "FORMAT", "metric", "rmse<0.5", "sort",
			"rmse")},
		{"search a model's name", find("text", "MODEL")},
		{"line up five", func(r *rand.Rand, n []string) string {
			var refs []string
			for range 5 {
				refs = append(refs, ref(r, n))
			}
			return "/lineup?versions=" + url.QueryEscape(strings.Join(refs, ","))
		}},
		{"trace a version up", func(r *rand.Rand,
			n []string,
		) string {
			return "/trace?direction=up&from=" + url.QueryEscape(ref(r, n))
		}},
		{"trace a version both ways", func(r *rand.Rand,
			n []string,
		) string {
			return "/trace?from=" + url.QueryEscape(ref(r, n))
		}},
		{"trace a data set", func(r *rand.Rand, _ []string) string {
			return fmt.Sprintf("/trace?from=winters-%03d", r.IntN(500))
		}},
	}
}

func measure(h *house.House) error {
	client := &http.Client{}
	get := func(path string) ([]byte, time.Duration, error) {
		req, err := http.NewRequest("GET", h.Server+"/api/v1"+path, nil)
		if err != nil {
			return nil, 0, err
		}
		req.Header.Set("Authorization", "Bearer "+h.Token)
		begin := time.Now()
		res, err := client.Do(req)
		if err != nil {
			return nil, 0, err
		}
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		took := time.Since(begin)
		if err == nil && res.StatusCode != 200 {
			err = fmt.Errorf("%s: %s %.300s", path, res.Status, body)
		}
		return body, took, err
	}
	names, err := modelNames(get)
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(*seed, 11))
	before, _ := h.Memory()
	fmt.Printf("memory of the service before: %s\n\n| request | p50 ms | p95 ms | max ms | answer KiB "+
		"|\n|---|---|---|---|---|\n", before)
	var all []time.Duration
	for _, k := range kinds() {
		var times []time.Duration
		bytes := 0
		for i := range *rounds + 10 {
			body, took, err := get(k.path(r, names))
			if err != nil {
				return err
			}
			if i >= 10 { // the first few warm up
				times = append(times, took)
				bytes += len(body)
			}
		}
		all = append(all, times...)
		slices.Sort(times)
		fmt.Printf("| %s | %.1f | %.1f | %.1f | %.1f |\n", k.name, ms(times[len(times)/2]),
			ms(times[len(times)*95/100]), ms(times[len(times)-1]), float64(bytes)/float64(len(times))/1024)
	}
	slices.Sort(all)
	after, most := h.Memory()
	fmt.Printf("| all together | %.1f | %.1f | %.1f | |\n\nmemory after: %s, at most %s\n", ms(all[len(all)/2]),
		ms(all[len(all)*95/100]), ms(all[len(all)-1]), after, most)
	return nil
}

func ms(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }

func modelNames(get func(string) ([]byte, time.Duration, error)) ([]string, error) {
	var names []string
	body, _, err := get("/models?limit=200")
	for _, part := range strings.Split(string(body), `"name":"`)[1:] {
		name, _, _ := strings.Cut(part, `"`)
		names = append(names, name)
	}
	return names, err
}
