package replica

import (
	"strings"
	"testing"
)

func TestTemplates(t *testing.T) {
	for _, c := range []struct {
		command string
		env     map[string]string
		wrong   string
	}{
		{"/usr/bin/python3 {folder}/serve.py {port}", nil, ""},
		{"/opt/serve --model {model} --version {version} -r {requirements}", map[string]string{"PORT": "{port}"}, ""},
		{"", nil, "no program by its whole path"},
		{"python3 serve.py {port}", nil, "no program by its whole path"},
		{"/usr/bin/../bin/sh {port}", nil, "no program by its whole path"},
		{"/bin/sh -c {port}", nil, "runs whatever it is told"},
		{"/usr/bin/env python3 {port}", nil, "runs whatever"},
		{"/opt/serve", nil, "its {port}"},
		{"/opt/serve {port} {secret}", nil, "{secret} is nothing that is filled in"},
		{"/opt/serve {port}", map[string]string{"LD_PRELOAD": "x"}, `"LD_PRELOAD" is no variable`},
		{"/opt/serve {port}", map[string]string{"a b": "x"}, `"a b" is no variable`},
		{"/opt/serve {port} " + strings.Repeat("x", 5000), nil, "too long"},
	} {
		err := Template{Command: strings.Fields(c.command), Environment: c.env}.Check()
		if (err == nil) != (c.wrong == "") || (err != nil && !strings.Contains(err.Error(), c.wrong)) {
			t.Errorf("%.60s: %v, want %q", c.command, err, c.wrong)
		}
	}
	if got := Fill("{folder}/a {port} {}", map[string]string{"folder": "{port}", "port": "7"}); got != "{port}/a 7 " {
		t.Errorf("%q", got) // what is filled in is not filled in again
	}
}
