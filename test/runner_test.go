package test

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/core/replica"
)

// runners opens a service whose runners end soon after it.
func runners(t *testing.T) *house {
	t.Helper()
	h := &house{t: t, data: filepath.Join(t.TempDir(), "data"), options: []string{"-runners-away", "3s"}}
	h.start()
	h.tove, h.toveFile = h.person("tove", "author", "approver", "operator")
	t.Cleanup(func() { // nothing may be left when the folder goes
		_ = h.cmd.Process.Kill()
		await(t, "all runners to end", 20*time.Second, func() bool { return len(h.replicaPIDs()) == 0 })
	})
	return h
}

// replicaPIDs are the processes on this machine that keep a folder of the house.
func (h *house) replicaPIDs() (pids []int) {
	out, _ := exec.Command("pgrep", "-f", "--", "-keep "+h.data+"/runners/").Output()
	for _, word := range strings.Fields(string(out)) {
		if pid, err := strconv.Atoi(word); err == nil {
			pids = append(pids, pid)
		}
	}
	return pids
}

// regression writes a PMML document of y = 1 + slope·x, and a sample of it.
func (h *house) regression(slope float64) (file, sample string) {
	h.t.Helper()
	dir := h.t.TempDir()
	file, sample = filepath.Join(dir, "heat.pmml"), filepath.Join(dir, "rows.csv")
	must(h.t, os.WriteFile(file, fmt.Appendf(nil, `<PMML version="4.4"><Header/><DataDictionary>
		<DataField name="x" optype="continuous" dataType="double"/>
		<DataField name="y" optype="continuous" dataType="double"/></DataDictionary>
		<RegressionModel functionName="regression"><MiningSchema><MiningField name="x"/>
		<MiningField name="y" usageType="target"/></MiningSchema><RegressionTable intercept="1">
		<NumericPredictor name="x" coefficient="%v"/></RegressionTable></RegressionModel></PMML>`, slope), 0o600))
	must(h.t, os.WriteFile(sample, []byte("x,y\n1.5,2.5\n0.25,1.25\n"), 0o600))
	return file, sample
}

// runs is how what runs is, of one version.
func (h *house) runs(ref string) []replica.Replica {
	all, err := h.runa.Running(h.t.Context(), ref)
	if err != nil || len(all.Items) != 1 {
		return nil
	}
	return all.Items[0].Replicas
}

func readyOnes(all []replica.Replica) (n int) {
	for _, r := range all {
		if r.State == "ready" {
			n++
		}
	}
	return n
}

// lookSays makes sure of what is said of a file before it is registered.
func lookSays(t *testing.T, file, says string) {
	t.Helper()
	out, err := exec.Command(binary, "look", file).CombinedOutput()
	if err != nil || !strings.Contains(string(out), says) {
		t.Errorf("look says\n%s%v", out, err)
	}
}

// From a file of ONNX to an answer in five commands: the answer is that of another runtime.
func TestFiveCommandsToAnAnswer(t *testing.T) {
	t.Parallel()
	h := runners(t)
	h.as(h.runaFile, "environment", "add", "workbench")
	const file = "../internal/core/onnx/testdata/"
	lookSays(t, file+"forest-SUM.onnx", "it can be run here")
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", file+"forest-SUM.onnx")
	h.as(h.runaFile, "place", "heat-demand@1", "-env", "workbench", "-run")
	h.as(h.runaFile, "endpoint", "add", "demand", "-model", "heat-demand", "-env", "workbench", "-rung", "draft")
	h.as(h.runaFile, "split", "demand", "heat-demand@1=100")
	var golden map[string]map[string][]string
	b, err := os.ReadFile(file + "learned.json")
	must(t, err)
	must(t, json.Unmarshal(b, &golden))
	res, err := http.Post(h.gateway+"/v2/models/demand/infer", "application/json", strings.NewReader(
		`{"inputs":[{"name":"x","datatype":"FP32","shape":[1,4],"data":[0,0,0,0]}]}`))
	must(t, err)
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	var answer struct {
		Version string `json:"model_version"`
		Outputs []struct{ Data []float64 }
	}
	if err := json.Unmarshal(body, &answer); err != nil || answer.Version != "heat-demand@1" || len(golden) == 0 {
		t.Fatalf("%s", body)
	}
	out := h.as(h.runaFile, "try", "demand", "-json")
	if !strings.Contains(out, fmt.Sprint(answer.Outputs[0].Data[0])) {
		t.Errorf("try says %s, the gateway %s", out, body)
	}
}

// What cannot be run is refused by name, and nothing is left of it.
func TestWhatCannotBeRun(t *testing.T) {
	t.Parallel()
	h := runners(t)
	h.as(h.runaFile, "environment", "add", "workbench")
	h.as(h.runaFile, "environment", "add", "guarded", "-allow", "10.0.0.0/8")
	dir := t.TempDir()
	svm := filepath.Join(dir, "svm.pmml")
	must(t, os.WriteFile(svm, []byte(`<PMML version="4.4"><DataDictionary><DataField name="x" optype="continuous"
		dataType="double"/></DataDictionary><SupportVectorMachineModel functionName="regression"><MiningSchema>
		<MiningField name="x"/></MiningSchema></SupportVectorMachineModel></PMML>`), 0o600))
	good, sample := h.regression(1)
	model, _ := h.files(1)
	lookSays(t, svm, "the model SupportVectorMachineModel")
	for _, file := range []string{svm, model, good} {
		h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", file, "-sample", sample, "-target", "y")
	}
	h.says(3, h.runaFile, "the model SupportVectorMachineModel", "place", "heat-demand@1", "-env", "workbench", "-run")
	h.says(3, h.runaFile, "0 files in onnx or pmml", "place", "heat-demand@2", "-env", "workbench", "-run")
	h.says(3, h.runaFile, "no model server of guarded may be at", "place", "heat-demand@3", "-env", "guarded", "-run")
	h.says(2, h.runaFile, "from 9 to 2 replicas", "place", "heat-demand@3", "-env", "workbench", "-run", "-replicas",
		"9..2")
	h.says(2, h.runaFile, "cannot be computed together", "place", "heat-demand@3", "-env", "workbench", "-run",
		"-batch-rows", "8", "-batch-wait", "1h")
	h.says(2, h.runaFile, "has an address of its own", "place", "heat-demand@3", "-env", "workbench", "-run", "-at",
		"http://127.0.0.1:1")
	await(t, "what was refused to end", 15*time.Second, func() bool { return len(h.replicaPIDs()) == 0 })
	h.as(h.runaFile, "place", "heat-demand@3", "-env", "workbench", "-run")
	h.says(3, h.runaFile, "placed in workbench already", "place", "heat-demand@3", "-env", "workbench", "-run")
	h.says(2, h.runaFile, "has addresses of its own", "addresses", "heat-demand@3", "-env", "workbench", "-add",
		"http://127.0.0.1:1")
	await(t, "what was refused to end", 20*time.Second, func() bool { return len(h.replicaPIDs()) == 1 })
	h.as(h.runaFile, "unplace", "heat-demand@3", "-env", "workbench")
	await(t, "the end of what is not placed", 20*time.Second, func() bool { return len(h.replicaPIDs()) == 0 })
}

// Replicas come and go while the version answers, and no caller notices; what is taken away ends.
func TestReplicasWhileItAnswers(t *testing.T) {
	t.Parallel()
	h := runners(t)
	h.running(1)
	failed, stop := h.steadily(100)
	for _, n := range []int{3, 1, 2} {
		h.as(h.runaFile, "replicas", "heat-demand@1", strconv.Itoa(n), "-env", "workbench", "-why", "trying")
		await(t, fmt.Sprintf("%d replicas", n), 20*time.Second, func() bool {
			all := h.runs("heat-demand@1")
			p, err := h.runa.Placements(t.Context(), "heat-demand@1")
			return err == nil && len(all) == n && readyOnes(all) == n && len(p.Items[0].Addresses) == n &&
				len(h.replicaPIDs()) == n
		})
	}
	stop()
	if n := failed.Load(); n > 0 {
		t.Errorf("%d requests failed", n)
	}
	all := h.runs("heat-demand@1")
	if r := all[0]; r.Memory < 1<<20 || r.Files < 3 || r.CPULimit < 1 || r.MemoryLimit < 1<<20 {
		t.Errorf("%+v", r)
	}
	if out := h.as(h.runaFile, "running", "log", "heat-demand@1", "-env", "workbench"); !strings.Contains(out,
		"serves heat-demand") {
		t.Errorf("the log says %s", out)
	}
}

// running brings a version of a slope to an endpoint that runs here, with options of place.
func (h *house) running(slope float64, options ...string) {
	h.t.Helper()
	h.as(h.runaFile, "environment", "add", "workbench")
	file, sample := h.regression(slope)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", file, "-sample", sample, "-target", "y")
	h.as(h.runaFile, append([]string{"place", "heat-demand@1", "-env", "workbench", "-run"}, options...)...)
	h.as(h.runaFile, "endpoint", "add", "demand-hourly", "-model", "heat-demand", "-env", "workbench", "-rung", "draft")
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=100")
}

// The runner, the service, or both are killed at any moment: within seconds the version answers again, nothing is
// started twice, and nothing is left when nobody looks after it.
func TestSoakKillsOfRunners(t *testing.T) {
	t.Parallel()
	h := runners(t)
	h.running(1, "-replicas", "2")
	for round := range longer(4, 50) {
		pids := h.replicaPIDs()
		if round%3 != 1 && len(pids) > 0 {
			must(t, syscall.Kill(pids[round%len(pids)], syscall.SIGKILL))
		}
		if round%3 != 0 {
			_ = h.stop(syscall.SIGKILL)
			h.start()
		}
		if round%2 == 0 { // while it comes back
			if pids := h.replicaPIDs(); len(pids) > 0 {
				_ = syscall.Kill(pids[0], syscall.SIGKILL)
			}
		}
		began := time.Now()
		c := h.caller(1)
		await(t, "an answer", 20*time.Second, func() bool {
			status, version, _, err := c.infer(1)
			return err == nil && status == 200 && version == "heat-demand@1"
		})
		await(t, "both replicas", 40*time.Second, func() bool {
			n := len(h.replicaPIDs())
			if n > 2 {
				t.Fatalf("round %d: %d processes", round, n)
			}
			return n == 2 && readyOnes(h.runs("heat-demand@1")) == 2
		})
		t.Logf("round %d: both after %v", round, time.Since(began).Round(time.Millisecond))
	}
	_ = h.stop(syscall.SIGKILL)
	await(t, "the end of what nobody looks after", 15*time.Second, func() bool { return len(h.replicaPIDs()) == 0 })
}

// With two numbers there are as many replicas as the requests want that are under way at the same time.
func TestReplicasFollowTheLoad(t *testing.T) {
	t.Parallel()
	h := runners(t)
	// Requests wait for others that do not come, so that many are under way at little cost.
	h.running(1, "-replicas", "1..3", "-batch-rows", "1000", "-batch-wait", "300ms")
	c := h.caller(32)
	stop := make(chan struct{})
	var all sync.WaitGroup
	for range 32 {
		all.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if status, _, body, err := c.infer(1); err != nil || status != 200 {
					t.Errorf("%d %s %v", status, body, err)
				}
			}
		})
	}
	await(t, "three replicas", 60*time.Second, func() bool { return readyOnes(h.runs("heat-demand@1")) == 3 })
	close(stop)
	all.Wait()
}

// Rows of requests that come together are computed together; each gets what is its own.
func TestRowsTogether(t *testing.T) {
	t.Parallel()
	h := runners(t)
	h.running(2, "-batch-rows", "16", "-batch-wait", "20ms")
	c := h.caller(32)
	wrong := make(chan string, 10_000)
	done := make(chan struct{})
	for w := range 32 {
		go func() {
			defer func() { done <- struct{}{} }()
			for i := range 200 {
				x := float64(w*1000 + i)
				status, _, body, err := c.infer(x)
				var answer struct{ Outputs []struct{ Data []float64 } }
				if err != nil || status != 200 || json.Unmarshal(body, &answer) != nil ||
					math.Abs(answer.Outputs[0].Data[0]-(1+2*x)) > 1e-9 {
					wrong <- fmt.Sprintf("%v: %d %s %v", x, status, body, err)
				}
			}
		}()
	}
	together := 0.0
	for ended := 0; ended < 32; {
		select {
		case <-done:
			ended++
		case s := <-wrong:
			t.Fatal(s)
		case <-time.After(100 * time.Millisecond):
		}
		if all := h.runs("heat-demand@1"); len(all) > 0 {
			together = max(together, all[0].Work.RowsTogether)
		}
	}
	// How many come together is the machine's; that those that do are computed as one is a test of the model server's.
	t.Logf("%.1f rows were computed together", together)
}
