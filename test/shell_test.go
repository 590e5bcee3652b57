package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"innerladder/test/foreign"
)

// A real shell completes commands and options, and a real man reads the manual without a warning.
func TestShellAndManual(t *testing.T) {
	t.Parallel()
	bash := foreign.Program(t, "bash")
	ask := `PATH="$1:$PATH"; source <(innerladder completion bash); COMP_WORDS=(innerladder %s); COMP_CWORD=%d; ` +
		`_innerladder; echo "${COMPREPLY[@]}"`
	for words, want := range map[string]string{"endp": "endpoint", "endpoint sh": "show", "split -wh": "-why"} {
		script := strings.NewReplacer("%s", words, "%d", string(rune('0'+len(strings.Fields(words))))).Replace(ask)
		out, err := exec.Command(bash, "-c", script, "bash", filepath.Dir(binary)).CombinedOutput()
		if err != nil || strings.TrimSpace(string(out)) != want {
			t.Errorf("%s: %v %s", words, err, out)
		}
	}
	man, err := exec.LookPath("man")
	if err != nil {
		t.Skip("man is not installed")
	}
	text, err := exec.Command(binary, "manual").Output()
	must(t, err)
	file := filepath.Join(t.TempDir(), "innerladder.1")
	must(t, os.WriteFile(file, text, 0o600))
	read := exec.Command(man, "--warnings", "-l", file)
	var warnings strings.Builder
	read.Stderr = &warnings
	shown, err := read.Output()
	if err != nil || warnings.Len() > 0 || !strings.Contains(string(shown), "endpoint add") {
		t.Errorf("%v %s", err, warnings.String())
	}
}
