package replica

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// Template is a command line that is allowed to serve versions on this machine, in whatever language it is written. It
// is never given to a shell. What stands in braces is filled in.
type Template struct {
	Name string `json:"name"`
	// Command is the program, by its whole path, and its arguments.
	Command []string `json:"command" description:"the program by its whole path, and its arguments, with braces"`
	// Environment is what the program finds in its environment besides what every runner has.
	Environment map[string]string `json:"environment" description:"variables of its environment; filled in as well"`
	Description string            `json:"description"`
	AddedBy     string            `json:"added_by"`
	AddedAt     time.Time         `json:"added_at"`
}

// Filled are what stands in braces, with what it stands for.
var Filled = map[string]string{
	"folder": "the folder of the version's files, each by its name, and of version.json",
	"port":   "where it must answer, on 127.0.0.1",
	"model":  "the model's name, by which it is asked", "version": "the version, such as heat-demand@7",
	"requirements": "a file with the packages that the version needs",
}

// shells take a text and do whatever it says.
var shells = []string{
	"sh", "bash", "dash", "zsh", "ksh", "mksh", "csh", "tcsh", "fish", "ash", "busybox", "cmd", "cmd.exe", "powershell",
	"pwsh", "env", "xargs", "eval", "sudo", "su", "doas",
}

const (
	mostArguments   = 100
	longestArgument = 4096
)

var (
	braces   = regexp.MustCompile(`\{([^{}]*)\}`)
	variable = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
)

// Check says what is wrong with a template.
func (t Template) Check() error {
	bad := func(field, detail string, args ...any) error {
		return fault.New(fault.Invalid, "template.wrong", detail, args...).In(field).
			Do("give a program by its whole path and its arguments, such as /usr/bin/python3 {folder}/serve.py "+
				"{port}; these are filled in: {%s}", strings.Join(slices.Sorted(maps.Keys(Filled)), "}, {"))
	}
	switch {
	case len(t.Command) == 0 || !path.IsAbs(t.Command[0]) || path.Clean(t.Command[0]) != t.Command[0]:
		return bad("command", "the command names no program by its whole path")
	case slices.Contains(shells, path.Base(t.Command[0])):
		return bad("command", "%s runs whatever it is told, and is not started", t.Command[0])
	case len(t.Command) > mostArguments || len(t.Environment) > mostArguments:
		return bad("command", "more than %d arguments or variables", mostArguments)
	case !slices.ContainsFunc(slices.Concat(t.Command[1:], slices.Collect(maps.Values(t.Environment))), hasPort):
		return bad("command", "nothing tells the program its {port}")
	}
	for _, text := range slices.Concat(t.Command, slices.Collect(maps.Values(t.Environment))) {
		if len(text) > longestArgument || strings.ContainsRune(text, 0) {
			return bad("command", "%.40q is too long, or has a character that no argument has", text)
		}
		for _, m := range braces.FindAllStringSubmatch(text, -1) {
			if _, known := Filled[m[1]]; !known {
				return bad("command", "{%s} is nothing that is filled in", m[1])
			}
		}
	}
	for name := range t.Environment {
		if !variable.MatchString(name) || strings.HasPrefix(name, "LD_") || strings.HasPrefix(name, "INNERLADDER_") {
			return bad("environment", "%q is no variable that can be set", name)
		}
	}
	return nil
}

func hasPort(text string) bool { return strings.Contains(text, "{port}") }

// Fill puts values in the place of what stands in braces.
func Fill(text string, values map[string]string) string {
	return braces.ReplaceAllStringFunc(text, func(in string) string { return values[in[1:len(in)-1]] })
}
