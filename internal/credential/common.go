package credential

import (
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn/frequency"
)

// chosen are the passwords that leaked lists show to be chosen most, in lower case.
var chosen = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for _, p := range frequency.FrequencyLists["passwords"] {
		out[p] = true
	}
	return out
})

// disguises are letters as people write them when a password must have a digit or a sign.
var disguises = []*strings.Replacer{disguise("i"), disguise("l")}

// disguise undoes a disguise; what 1 and ! stand for depends.
func disguise(one string) *strings.Replacer {
	return strings.NewReplacer("@", "a", "4", "a", "8", "b", "3", "e", "1", one, "!", one, "0", "o", "$", "s", "5", "s",
		"7", "t")
}

func noLetter(r rune) bool { return !unicode.IsLetter(r) }

// common reports whether a password is one that many choose: as it is, with something before or after it, disguised, or
// said again and again.
func common(password string) bool {
	plain := strings.ToLower(password)
	forms := []string{plain, strings.TrimFunc(plain, noLetter)}
	for _, d := range disguises {
		forms = append(forms, d.Replace(forms[0]), d.Replace(forms[1]), strings.TrimFunc(d.Replace(forms[1]), noLetter))
	}
	for _, f := range forms {
		if chosen()[f] || chosen()[once(f)] || chosen()[once(strings.Join(strings.FieldsFunc(f, noLetter), ""))] {
			return true
		}
	}
	return false
}

// once is what a text says again and again, or the text.
func once(text string) string {
	if i := strings.Index((text + text)[min(1, len(text)):], text) + 1; i > 0 && i < len(text) {
		return text[:i]
	}
	return text
}

// row reports whether a password is mostly a row of neighbours, such as abcdefgh or 98765432.
func row(password string) bool {
	var last rune
	steps := 0
	for i, r := range password {
		if i > 0 && r-last <= 1 && last-r <= 1 {
			steps++
		}
		last = r
	}
	return steps >= utf8.RuneCountInString(password)-3
}

// left is what is left of a password without the names of whoever chose it; all of it when none is in it.
func left(password string, names []string) string {
	rest := strings.ToLower(password)
	for _, name := range names {
		for _, part := range append([]string{name}, strings.FieldsFunc(name, func(r rune) bool {
			return !unicode.IsLetter(r) && !unicode.IsDigit(r)
		})...) {
			if utf8.RuneCountInString(part) > 2 {
				rest = strings.ReplaceAll(rest, strings.ToLower(part), "")
			}
		}
	}
	return rest
}
