package test

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/notice"
	"innerladder/internal/wire"
)

// restore runs the restore command, which calls no service.
func restore(t *testing.T, args ...string) (int, string) {
	t.Helper()
	cmd := exec.Command(binary, append([]string{"restore"}, args...)...)
	out, _ := cmd.CombinedOutput()
	return cmd.ProcessState.ExitCode(), string(out)
}

// A backup that is taken while people register and callers call holds every version that
// was confirmed before it began, whole, and a service starts on it.
func TestBackupUnderLoad(t *testing.T) {
	h := open(t)
	h.twoVersions()
	failed, stopCalling := h.steadily(200)
	var registered atomic.Int64
	stop := make(chan struct{})
	var wait sync.WaitGroup
	for w := range 3 {
		wait.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
				}
				file := filepath.Join(t.TempDir(), "weights.bin")
				if os.WriteFile(file, bytes.Repeat([]byte(fmt.Sprintf("w%d-%d ", w, i)), 20_000), 0o600) != nil {
					return
				}
				v, err := h.runa.Register(t.Context(),
					wire.Registration{Model: "return-temp", Metrics: map[string]float64{"rmse": float64(i)}},
					client.Artifacts(file))
				if err != nil {
					t.Error(err)
					return
				}
				for n := registered.Load(); int64(v.Number) > n &&
					!registered.CompareAndSwap(n, int64(v.Number)); n = registered.Load() {
				}
			}
		})
	}
	await(t, "ten versions", 30*time.Second, func() bool { return registered.Load() >= 10 })
	_, err := h.runa.Collect(t.Context(), false)
	must(t, err)
	before := registered.Load()
	file := filepath.Join(t.TempDir(), "all.tar")
	if said := h.as(h.runaFile, "backup", file); !strings.Contains(said, "whole and checked") {
		t.Error(said)
	}
	close(stop)
	wait.Wait()
	stopCalling()
	if n := failed.Load(); n > 0 {
		t.Errorf("%d callers got no answer while the backup was taken", n)
	}
	if code, _, messages := h.cli(h.runaFile, "backup", file); code == 0 ||
		!strings.Contains(messages, "is there already") {
		t.Errorf("a backup must not overwrite another: %s", messages)
	}
	must(t, h.stop(syscall.SIGTERM))

	// damaged ones are refused and leave nothing
	whole, err := os.ReadFile(file)
	must(t, err)
	key := filepath.Join(h.data, "key")
	for name, bend := range map[string]func([]byte) []byte{
		"cut short":      func(b []byte) []byte { return b[:len(b)/2] },
		"without an end": func(b []byte) []byte { return b[:len(b)-4096] },
		"one bit turned": func(b []byte) []byte { b[len(b)/2] ^= 1; return b },
		"something else": func([]byte) []byte { return []byte("no backup") },
	} {
		bad, into := filepath.Join(t.TempDir(), "bad.tar"), filepath.Join(t.TempDir(), "data")
		must(t, os.WriteFile(bad, bend(bytes.Clone(whole)), 0o600))
		if code, out := restore(t, bad, "-data", into, "-key-file", key); code != 1 {
			t.Errorf("%s: exit %d %s", name, code, out)
		}
		if _, err := os.Stat(into); err == nil {
			t.Errorf("%s: left something behind", name)
		}
	}
	if code, out := restore(t, file, "-data", h.data); code != 1 || !strings.Contains(out, "is not empty") {
		t.Errorf("into a directory that is in use: exit %d %s", code, out)
	}

	into := filepath.Join(t.TempDir(), "again")
	if code, out := restore(t, file, "-data", into, "-key-file", key); code != 0 ||
		!strings.Contains(out, "the record is intact") {
		t.Fatalf("exit %d %s", code, out)
	}
	h.data = into
	h.start()
	all, err := h.runa.Versions(t.Context(), "return-temp", client.Part{Limit: 200})
	must(t, err)
	if int64(all.Items[0].Number) < before {
		t.Errorf("the newest version is %d, and %d was confirmed before the backup", all.Items[0].Number, before)
	}
	for _, v := range all.Items {
		if out := h.as(h.runaFile, "get", v.Ref, "weights.bin", "-to",
			filepath.Join(t.TempDir(), "w")); strings.Contains(out, "missing") {
			t.Error(out)
		}
	}
	if v, err := h.runa.VerifyAudit(t.Context(), nil); err != nil || !v.Intact() {
		t.Errorf("the record: %+v %v", v, err)
	}
	h.as(h.runaFile, "people")

	// without its key the service says what is missing
	must(t, h.stop(syscall.SIGTERM))
	must(t, os.Remove(filepath.Join(into, "key")))
	out, err := exec.Command(binary, "serve", "-data", into, "-listen", "127.0.0.1:0", "-gateway", "127.0.0.1:0").
		CombinedOutput()
	if err == nil || !strings.Contains(string(out), "-key-file") {
		t.Errorf("without the key: %v %s", err, out)
	}
}

// What is secret is in clear nowhere: not on the disk, in no log, no export, no answer, no
// backup.
func TestSecretsAreNowhereInClear(t *testing.T) {
	h := open(t)
	h.twoVersions()
	ctx := t.Context()
	secrets := map[string]string{
		"a password": password, "a token": h.runaToken,
		"a header": "Bearer marker-of-plant-north", "a mail password": "marker-of-the-mail-server",
	}
	_, err := h.runa.SetHeader(ctx, "plant-north", "Authorization", secrets["a header"])
	must(t, err)
	mail := secrets["a mail password"]
	_, err = h.runa.SetMail(ctx, notice.MailSettings{
		Host: "localhost", Port: 1, TLS: "none", User: "ladder",
		From: "ladder@tarnholm.example",
	}, &mail)
	must(t, err)
	_ = h.runa.TestMail(ctx) // fails, and must not say with what
	w, err := h.runa.AddWebhook(ctx,
		wire.NewWebhook{Project: access.Everywhere, Address: "https://192.0.2.1.invalid/hook"})
	must(t, err)
	secrets["a webhook's secret"] = w.Secret[len("whsec_"):]
	k, err := h.runa.AddCaller(ctx, "demand-hourly", "dispatch-tool")
	must(t, err)
	secrets["a caller's key"] = k.Key
	added, err := h.runa.AddPerson(ctx, wire.NewPerson{Name: "odd"})
	must(t, err)
	secrets["a link"] = added.Link[strings.Index(added.Link, "#")+1:]
	_, err = client.SignIn(ctx, h.server, "tove", "marker-of-a-wrong-password", "x", "")
	if err == nil {
		t.Error("a wrong password was taken")
	}
	secrets["a wrong password"] = "marker-of-a-wrong-password"
	key, err := os.ReadFile(filepath.Join(h.data, "key"))
	must(t, err)
	secrets["the sealing key"] = strings.TrimSpace(string(key))

	var export bytes.Buffer
	must(t, h.runa.ExportAudit(ctx, nil, &export))
	var tar bytes.Buffer
	_, err = h.runa.Backup(ctx, &tar)
	must(t, err)
	places := map[string][]byte{"the export": export.Bytes(), "the backup": tar.Bytes()}
	for _, args := range [][]string{
		{"headers", "plant-north", "-json"},
		{"settings", "mail", "-json"},
		{"callers", "demand-hourly", "-json"},
		{"webhooks", "-json"},
		{"people", "-json"},
		{"tokens", "-json"},
		{"audit", "-values", "-limit", "200"},
		{"deliveries", "1", "-json"},
	} {
		places[strings.Join(args, " ")] = []byte(h.as(h.runaFile, args...))
	}
	must(t, h.stop(syscall.SIGTERM))
	places["the log"] = []byte(h.log.String())
	must(t, filepath.WalkDir(h.data, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == "key" {
			return err
		}
		places[path], err = os.ReadFile(path)
		return err
	}))
	for place, content := range places {
		for what, secret := range secrets {
			if bytes.Contains(content, []byte(secret)) {
				t.Errorf("%s stands in clear in %s", what, place)
			}
		}
	}
	if len(places) < 12 {
		t.Errorf("only %d places were searched", len(places))
	}
}
