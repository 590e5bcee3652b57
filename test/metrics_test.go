package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"innerladder/test/foreign"
)

// scraped are the metrics in the form that is asked for.
func (h *house) scraped(token, accept string) (form, text string) {
	h.t.Helper()
	req, err := http.NewRequestWithContext(h.t.Context(), "GET", h.server+"/metrics", nil)
	must(h.t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	if accept != "" {
		req.Header.Set("Accept", accept)
	}
	res, err := http.DefaultClient.Do(req)
	must(h.t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	must(h.t, err)
	if res.StatusCode != http.StatusOK {
		h.t.Fatalf("%d %s", res.StatusCode, b)
	}
	return res.Header.Get("Content-Type"), string(b)
}

// readsOpenMetrics reads metrics with the parser of that standard's makers, which refuses what the standard does not
// allow, and prints the names of the families.
const readsOpenMetrics = `
import sys
from prometheus_client.openmetrics.parser import text_string_to_metric_families
names = [f.name for f in text_string_to_metric_families(sys.stdin.read())]
if len(names) != len(set(names)): sys.exit("a family twice: %s" % names)
print("\n".join(names))
`

// Both forms of the metrics hold before strict readers of other makers, and a metrics server draws a quantile by
// version and endpoint from the buckets.
func TestMetricsForOthers(t *testing.T) {
	t.Parallel()
	promtool, server := foreign.Program(t, "promtool"), foreign.Program(t, "prometheus")
	h := open(t)
	h.twoVersions()
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=60", "heat-demand@2=40", "-why", "to compare")
	_, stop := h.steadily(100)
	defer stop()
	h.more(300)
	await(t, "the first whole second", 30*time.Second, func() bool {
		_, text := h.scraped(h.runaToken, "")
		return strings.Contains(text, `version="heat-demand@2",le="+Inf"`)
	})
	form, text := h.scraped(h.runaToken, "")
	if !strings.HasPrefix(form, "text/plain; version=0.0.4") {
		t.Errorf("who asks for nothing gets %s", form)
	}
	check := exec.Command(promtool, "check", "metrics")
	check.Stdin = strings.NewReader(text)
	if out, err := check.CombinedOutput(); err != nil || len(out) > 0 {
		t.Errorf("promtool: %v\n%s", err, out)
	}
	form, open := h.scraped(h.runaToken, "application/openmetrics-text; version=1.0.0; q=0.9, text/plain; q=0.5")
	if !strings.HasPrefix(form, "application/openmetrics-text; version=1.0.0") {
		t.Errorf("who asks for OpenMetrics gets %s", form)
	}
	read := exec.Command("/usr/bin/python3", "-c", readsOpenMetrics)
	read.Stdin = strings.NewReader(open)
	out, err := read.CombinedOutput()
	if err != nil {
		t.Errorf("OpenMetrics: %v\n%s", err, out)
	}
	for _, name := range []string{
		"innerladder_request_duration_seconds", "innerladder_requests", "innerladder_lane_share",
		"innerladder_lane_addresses", "innerladder_guard_progress", "innerladder_split_number",
		"innerladder_database_bytes", "innerladder_records_writable",
	} {
		if !strings.Contains("\n"+string(out), "\n"+name+"\n") {
			t.Errorf("there is no family %s", name)
		}
	}
	if want := `innerladder_lane_share{endpoint="demand-hourly",lane="trial",version="heat-demand@2"} 0.4`; !strings.Contains(open, want) {
		t.Error(open)
	}
	h.scrapedBy(server)
}

// scrapedBy has a metrics server read ours, and asks it for the 99th percentile of each version.
func (h *house) scrapedBy(program string) {
	h.t.Helper()
	dir, at := h.t.TempDir(), freeAddress(h.t)
	config := filepath.Join(dir, "scrape.yaml")
	must(h.t, os.WriteFile(config, fmt.Appendf(nil, `global: {scrape_interval: 1s}
scrape_configs:
- job_name: ladder
  authorization: {credentials_file: %s}
  static_configs: [{targets: [%s]}]
`, h.runaFile, strings.TrimPrefix(h.server, "http://")), 0o600))
	p := exec.Command(program, "--config.file="+config, "--storage.tsdb.path="+filepath.Join(dir, "tsdb"),
		"--web.listen-address="+at)
	log, err := os.Create(filepath.Join(dir, "log"))
	must(h.t, err)
	p.Stdout, p.Stderr = log, log
	must(h.t, p.Start())
	h.t.Cleanup(func() {
		_ = p.Process.Kill()
		_ = p.Wait()
		_ = log.Close()
	})
	const query = `histogram_quantile(0.99, sum by (version, le) (rate(innerladder_request_duration_seconds_bucket[20s])))`
	p99 := map[string]float64{}
	await(h.t, "the 99th percentile of both versions", 60*time.Second, func() bool {
		res, err := http.Get("http://" + at + "/api/v1/query?query=" + url.QueryEscape(query))
		if err != nil {
			return false
		}
		defer res.Body.Close()
		var a struct {
			Data struct {
				Result []struct {
					Metric map[string]string
					Value  [2]any
				}
			}
		}
		if json.NewDecoder(res.Body).Decode(&a) != nil {
			return false
		}
		for _, r := range a.Data.Result {
			if x, err := strconv.ParseFloat(fmt.Sprint(r.Value[1]), 64); err == nil && x > 0 && x < 30 {
				p99[r.Metric["version"]] = x
			}
		}
		return len(p99) == 2
	})
	h.t.Logf("%v", p99)
}

// Whoever may see less is told less: of endpoints, of projects, of the service itself.
func TestMetricsOfWhatMayBeSeen(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	h.as(h.runaFile, "project", "add", "harbour")
	h.as(h.runaFile, "robot", "add", "guest", "-role", "reader", "-project", "harbour")
	out := h.as(h.runaFile, "token", "make", "of the guest", "-robot", "guest")
	_, text := h.scraped(strings.TrimSpace(out[strings.LastIndex(out, "il_"):]), "")
	for _, secret := range []string{"demand-hourly", "heat-demand", "innerladder_database", `project="default"`} {
		if strings.Contains(text, secret) {
			t.Errorf("%s is told to whoever sees another project:\n%s", secret, text)
		}
	}
}
