package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/glossary"
)

// nearest is the one of several that is so like a word that it may have been meant; empty where none is.
func nearest(word string, all []string) string {
	best, meant := len(word)/3+1, ""
	for _, one := range all {
		if d := apart(word, one); d <= best && (meant == "" || d < best) {
			best, meant = d, one
		}
	}
	return meant
}

// apart is how many letters must be put in, left out, changed or swapped to make one word of another.
func apart(a, b string) int {
	older, last, now := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		for j := 1; j <= len(b); j++ {
			change := last[j-1]
			if a[i-1] != b[j-1] {
				change++
			}
			now[j] = min(change, last[j]+1, now[j-1]+1)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], older[j-2]+1)
			}
		}
		older, last, now = last, now, older
	}
	return last[len(b)]
}

// completions are what the last of some words of a command line can become: words of commands, or options.
func completions(all []command, words []string) (out []string) {
	if len(words) == 0 {
		words = []string{""}
	}
	last := words[len(words)-1]
	before := words[:len(words)-1]
	if cmd, _ := find(all, before); cmd != nil && len(before) > 0 && strings.HasPrefix(last, "-") {
		c := &call{flags: flag.NewFlagSet(cmd.name, flag.ContinueOnError)}
		cmd.setup(c)
		c.flags.VisitAll(func(f *flag.Flag) { out = append(out, "-"+f.Name) })
	} else if len(before) <= 1 {
		begin := strings.Join(append(slices.Clone(before), ""), " ")
		for _, c := range append(slices.Clone(all), command{name: "help"}) {
			if rest, ok := strings.CutPrefix(c.name, begin); ok {
				word, _, _ := strings.Cut(rest, " ")
				out = append(out, word)
			}
		}
	}
	out = slices.DeleteFunc(out, func(s string) bool { return !strings.HasPrefix(s, last) })
	slices.Sort(out)
	return slices.Compact(out)
}

// scripts have a shell ask the program itself what a word can become.
var scripts = map[string]string{
	"bash": `# innerladder completion bash > /etc/bash_completion.d/innerladder
_innerladder() {
  local IFS=$'\n'
  COMPREPLY=($(innerladder complete -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _innerladder innerladder
`,
	"zsh": `#compdef innerladder
# innerladder completion zsh > "${fpath[1]}/_innerladder"
_innerladder() {
  local -a found
  found=("${(@f)$(innerladder complete -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
  if [[ -n "$found" ]]; then compadd -a found; else _files; fi
}
compdef _innerladder innerladder
`,
	"fish": `# innerladder completion fish > ~/.config/fish/completions/innerladder.fish
function __innerladder_complete
  set -l words (commandline -opc) (commandline -ct)
  innerladder complete -- $words[2..-1] 2>/dev/null
end
complete -c innerladder -a '(__innerladder_complete)'
`,
}

// helpingCommands help with the command line itself.
func helpingCommands() []command {
	return []command{
		{
			name: "completion", group: "Run", arguments: "bash|zsh|fish", least: 1, most: 1,
			summary: "Print what makes a shell complete commands and options",
			example: "innerladder completion bash > ~/.local/share/bash-completion/completions/innerladder",
			setup: func(c *call) func(context.Context) error {
				return func(context.Context) error {
					script, ok := scripts[c.args[0]]
					if !ok {
						return wrongUse("%q is no shell that is known; use bash, zsh or fish", c.args[0])
					}
					_, err := io.WriteString(c.Out, script)
					return err
				}
			},
		},
		{
			name: "complete", group: "Run", arguments: "-- WORD...", most: -1,
			summary: "Print what the last word of a command line can become; shells ask it",
			example: "innerladder complete -- endpoint a",
			setup: func(c *call) func(context.Context) error {
				return func(context.Context) error {
					for _, word := range completions(commands(), c.args) {
						fmt.Fprintln(c.Out, word)
					}
					return nil
				}
			},
		},
		{
			name: "manual", group: "Run", most: 0,
			summary: "Print the manual of all commands, for man",
			example: "innerladder manual > /usr/local/share/man/man1/innerladder.1",
			setup: func(c *call) func(context.Context) error {
				return func(context.Context) error {
					_, err := io.WriteString(c.Out, manual(commands()))
					return err
				}
			},
		},
		{
			name: "glossary", group: "Run", most: 0,
			summary: "Say what the words mean: rung, lane, trial and others", example: "innerladder glossary",
			setup: func(c *call) func(context.Context) error {
				c.json = c.flags.Bool("json", false, "print JSON")
				return func(context.Context) error {
					terms := glossary.Terms()
					return c.show(terms, nil, func() {
						t := newTable(c.Out, "WORD", "MEANS")
						for _, term := range terms {
							t.row(term.Word, term.Means)
						}
						t.done()
					})
				}
			},
		},
	}
}

// manual writes the manual as man reads it.
func manual(all []command) string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	built, at := buildTime()
	say(".TH INNERLADDER 1 %q %q", at.Format(time.DateOnly), built)
	say(".SH NAME\ninnerladder \\- register model versions, approve them, split traffic, compare, roll back")
	say(".SH SYNOPSIS\n.B innerladder\n.I COMMAND\n[options] [arguments]")
	group := ""
	var groups []string
	by := map[string][]command{}
	for _, c := range all {
		if by[c.group] == nil {
			groups = append(groups, c.group)
		}
		by[c.group] = append(by[c.group], c)
	}
	for _, group = range groups {
		say(".SH %s", strings.ToUpper(group))
		for i := range by[group] {
			manualOf(say, &by[group][i])
		}
	}
	say(".SH EXIT STATUS\n0 done, 1 failed, 2 wrong usage, 3 refused by a gate or rule, 4 rolled back, 5 timed out.")
	return out.String()
}

// rolled is a text as man takes it: hyphens are themselves, and no line is a request.
func rolled(s string) string {
	lines := strings.Split(strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(s), "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}

func manualOf(say func(string, ...any), cmd *command) {
	c := &call{flags: flag.NewFlagSet(cmd.name, flag.ContinueOnError)}
	cmd.setup(c)
	say(".SS %s", rolled(strings.TrimSpace(cmd.name+" "+cmd.arguments)))
	say("%s.", rolled(cmd.summary))
	c.flags.VisitAll(func(f *flag.Flag) {
		what, text := flag.UnquoteUsage(f)
		say(".TP\n.B %s\n%s", rolled(strings.TrimSpace("-"+f.Name+" "+what)), rolled(text))
	})
	say(".PP\n.nf\n%s\n.fi", rolled(cmd.example))
}
