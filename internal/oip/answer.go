package oip

import (
	"bytes"
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"github.com/tidwall/gjson"
)

// Malformed says why a body is no answer of the protocol.
type Malformed struct{ What string }

func (m *Malformed) Error() string { return m.What }

const (
	// deepestAnswer is how deep an answer may nest.
	deepestAnswer = 64
	// longestKey is how much of a member's name is looked at: more than any of the
	// protocol's has.
	longestKey = 64
)

// Answer reads an answer piece by piece, as it passes: it makes sure that it is JSON with
// outputs, and writes into it which model and version gave it. Everything else stays byte
// for byte as it was. It holds nothing but where it is, so an answer may be of any length.
type Answer struct {
	naming *Naming
	state  state
	// stack holds a bracket for every array and object that is open.
	stack []byte
	// isKey is set while the text being read is a member's name.
	isKey bool
	// word is the rest of the literal being read, digits how many of a \u are to come.
	word   string
	digits int
	// key is the name of the member of the outermost object that is being read, as it is
	// written.
	key []byte
	// replaced is set while a value is left out because another takes its place.
	replaced bool
	// What the outermost object has: the two names, any member, outputs.
	model, version, any, outputs bool
}

// state is what an answer's next byte may be.
type state uint8

const (
	atStart state = iota
	atValue
	atFirstItem // a value, or the end of an empty array
	atFirstKey  // a key, or the end of an empty object
	atKey
	atColon
	afterValue
	inText
	inEscape
	inHex
	inWord
	afterMinus
	inZero
	inInteger
	afterPoint
	inFraction
	afterE
	afterSign
	inExponent
	atEnd
)

// Reset begins a new answer, to be named by n.
func (a *Answer) Reset(n *Naming) { *a = Answer{naming: n, stack: a.stack[:0], key: a.key[:0]} }

// Write reads the next piece of the answer and appends to dst what becomes of it.
func (a *Answer) Write(dst, piece []byte) ([]byte, error) {
	from := 0 // what was read but not yet appended begins here
	for i := 0; i < len(piece); i++ {
		switch a.state { // most of an answer is numbers and text
		case inText:
			at := i
			i = skipPlain(piece, i)
			a.keep(piece[at:i])
		case inInteger, inFraction, inExponent:
			i = skipDigits(piece, i)
		case atValue, atFirstItem:
			if at := a.skipNumbers(piece, i); at > i {
				i, a.state = at, atValue
			}
		}
		if i == len(piece) {
			break
		}
		c := piece[i]
		if a.endsNumber(c) && a.valueEnds() {
			from = i
		}
		outermost := len(a.stack) == 1
		if c == '}' && outermost && (a.state == afterValue || a.state == atFirstKey) {
			dst = a.missing(append(dst, piece[from:i]...))
			from = i
		}
		begins := outermost && a.state == atValue
		if err := a.step(c); err != nil {
			return dst, err
		}
		if begins && a.state != atValue {
			if name := a.begin(c); name != nil {
				dst = append(append(dst, piece[from:i]...), name...)
				a.replaced = true
			}
		}
		if a.state == afterValue && a.valueEnds() {
			from = i + 1
		}
	}
	if a.replaced {
		return dst, nil
	}
	return append(dst, piece[from:]...), nil
}

func skipPlain(b []byte, i int) int {
	for i < len(b) && b[i] != '"' && b[i] != '\\' && b[i] >= ' ' {
		i++
	}
	return i
}

func skipDigits(b []byte, i int) int {
	for i < len(b) && b[i] >= '0' && b[i] <= '9' {
		i++
	}
	return i
}

// skipNumbers skips numbers of an array that have a comma behind them in b.
func (a *Answer) skipNumbers(b []byte, i int) int {
	if a.stack[len(a.stack)-1] != '[' {
		return i
	}
	for i < len(b) {
		at := i
		if b[at] == '-' {
			at++
		}
		whole := skipDigits(b, at)
		if whole == at || (b[at] == '0' && whole > at+1) {
			return i
		}
		if at = whole; at < len(b) && b[at] == '.' {
			if at = skipDigits(b, at+1); at == whole+1 {
				return i
			}
		}
		if at == len(b) || b[at] != ',' {
			return i // what is rarer is read byte by byte
		}
		i = at + 1
	}
	return i
}

// End says whether what was read is a whole answer.
func (a *Answer) End() error {
	switch {
	case a.state != atEnd:
		return &Malformed{"is not a whole JSON object"}
	case !a.outputs:
		return &Malformed{"has no outputs"}
	}
	return nil
}

// endsNumber reports whether a number ends before c, and turns to what comes after it.
func (a *Answer) endsNumber(c byte) bool {
	switch a.state {
	case inZero, inInteger:
		if c == '.' || c == 'e' || c == 'E' || (a.state == inInteger && c >= '0' && c <= '9') {
			return false
		}
	case inFraction:
		if c == 'e' || c == 'E' || (c >= '0' && c <= '9') {
			return false
		}
	case inExponent:
		if c >= '0' && c <= '9' {
			return false
		}
	default:
		return false
	}
	a.state = afterValue
	return true
}

// valueEnds is called behind every value; it reports whether that was one that is left
// out, which ends here.
func (a *Answer) valueEnds() bool {
	ends := a.replaced && len(a.stack) == 1
	if ends {
		a.replaced = false
	}
	return ends
}

// begin takes note of the value of a member of the outermost object, which begins with c,
// and returns what takes its place, if anything does.
func (a *Answer) begin(c byte) []byte {
	a.any = true
	if bytes.IndexByte(a.key, '\\') >= 0 {
		var plain string
		_ = json.Unmarshal([]byte(`"`+string(a.key)+`"`), &plain) // it has been read as JSON already
		a.key = append(a.key[:0], plain...)
	}
	switch string(a.key) {
	case "model_name":
		a.model = true
		return a.naming.model
	case "model_version":
		a.version = true
		return a.naming.version
	case "outputs":
		a.outputs = c == '['
	}
	return nil
}

// missing appends the names that the outermost object has not got.
func (a *Answer) missing(dst []byte) []byte {
	add := func(there bool, key string, value []byte) {
		if there {
			return
		}
		if a.any {
			dst = append(dst, ',')
		}
		dst = append(append(dst, key...), value...)
		a.any = true
	}
	add(a.model, `"model_name":`, a.naming.model)
	add(a.version, `"model_version":`, a.naming.version)
	return dst
}

// step reads one byte.
func (a *Answer) step(c byte) error {
	switch a.state {
	case inText:
		return a.stepText(c)
	case inEscape, inHex, inWord:
		return a.stepRest(c)
	case afterMinus, inZero, inInteger, afterPoint, inFraction, afterE, afterSign, inExponent:
		return a.stepNumber(c)
	}
	if c == ' ' || c == '\t' || c == '\n' || c == '\r' {
		return nil
	}
	switch {
	case a.state == atStart && c == '{':
		return a.open(c)
	case a.state == atValue, a.state == atFirstItem && c != ']':
		return a.stepValue(c)
	case (a.state == atFirstKey || a.state == atKey) && c == '"':
		a.state, a.isKey, a.key = inText, true, a.key[:0]
	case a.state == atColon && c == ':':
		a.state = atValue
	case a.state == atFirstItem, a.state == atFirstKey && c == '}':
		return a.close()
	case a.state == afterValue:
		return a.stepAfter(c)
	default:
		return a.broken(c)
	}
	return nil
}

// stepAfter reads what may follow a value.
func (a *Answer) stepAfter(c byte) error {
	inside := a.stack[len(a.stack)-1]
	switch {
	case c == ',' && inside == '[':
		a.state = atValue
	case c == ',':
		a.state = atKey
	case (c == ']' && inside == '[') || (c == '}' && inside == '{'):
		return a.close()
	default:
		return a.broken(c)
	}
	return nil
}

// stepValue reads the first byte of a value.
func (a *Answer) stepValue(c byte) error {
	switch {
	case c == '{' || c == '[':
		return a.open(c)
	case c == '"':
		a.state, a.isKey = inText, false
	case c == '-':
		a.state = afterMinus
	case c == '0':
		a.state = inZero
	case c >= '1' && c <= '9':
		a.state = inInteger
	case c == 't':
		a.state, a.word = inWord, "rue"
	case c == 'f':
		a.state, a.word = inWord, "alse"
	case c == 'n':
		a.state, a.word = inWord, "ull"
	default:
		return a.broken(c)
	}
	return nil
}

func (a *Answer) stepText(c byte) error {
	switch {
	case c == '"' && a.isKey:
		a.state = atColon
		return nil
	case c == '"':
		a.state = afterValue
		return nil
	case c < ' ':
		return a.broken(c)
	case c == '\\':
		a.state = inEscape
		a.keep([]byte{c})
	}
	return nil
}

// keep keeps more of the name of the outermost object's member.
func (a *Answer) keep(b []byte) {
	if a.isKey && len(a.stack) == 1 && len(a.key) < longestKey {
		a.key = append(a.key, b[:min(len(b), longestKey-len(a.key))]...)
	}
}

// stepRest reads on in an escape or a literal.
func (a *Answer) stepRest(c byte) error {
	switch a.state {
	case inEscape:
		a.state = inText
		switch c {
		case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
		case 'u':
			a.state, a.digits = inHex, 4
		default:
			return a.broken(c)
		}
		a.keep([]byte{c})
	case inHex:
		lower := c | 0x20
		if (c < '0' || c > '9') && (lower < 'a' || lower > 'f') {
			return a.broken(c)
		}
		a.keep([]byte{c})
		if a.digits--; a.digits == 0 {
			a.state = inText
		}
	default: // inWord
		if c != a.word[0] {
			return a.broken(c)
		}
		if a.word = a.word[1:]; a.word == "" {
			a.state = afterValue
		}
	}
	return nil
}

// stepNumber reads on in a number; where it ends is seen by endsNumber.
func (a *Answer) stepNumber(c byte) error {
	digit := c >= '0' && c <= '9'
	exponent := c == 'e' || c == 'E'
	switch {
	case a.state == afterMinus && c == '0':
		a.state = inZero
	case a.state == afterMinus && digit:
		a.state = inInteger
	case a.state == inInteger && digit, a.state == inFraction && digit, a.state == inExponent && digit:
	case (a.state == inZero || a.state == inInteger) && c == '.':
		a.state = afterPoint
	case (a.state == inZero || a.state == inInteger || a.state == inFraction) && exponent:
		a.state = afterE
	case a.state == afterPoint && digit:
		a.state = inFraction
	case a.state == afterE && (c == '+' || c == '-'):
		a.state = afterSign
	case (a.state == afterE || a.state == afterSign) && digit:
		a.state = inExponent
	default:
		return a.broken(c)
	}
	return nil
}

func (a *Answer) open(c byte) error {
	if len(a.stack) == deepestAnswer {
		return &Malformed{fmt.Sprintf("nests deeper than %d", deepestAnswer)}
	}
	a.stack = append(a.stack, c)
	a.state = atFirstKey
	if c == '[' {
		a.state = atFirstItem
	}
	return nil
}

func (a *Answer) close() error {
	a.stack = a.stack[:len(a.stack)-1]
	a.state = afterValue
	if len(a.stack) == 0 {
		a.state = atEnd
	}
	return nil
}

// broken never repeats what it read: it goes to callers.
func (a *Answer) broken(byte) error { return &Malformed{"is not JSON"} }

// NameAll names a whole answer at once, appending it to dst. An answer that is not one is
// refused with a Malformed. It says what Answer says, several times quicker.
func NameAll(dst, body []byte, n *Naming, a *Answer) ([]byte, error) {
	if !utf8.Valid(body) {
		return dst, &Malformed{"is not UTF-8"}
	}
	if out, ok := nameQuickly(dst, body, n); ok {
		return out, nil
	}
	a.Reset(n)
	dst, err := a.Write(dst, body)
	if err != nil {
		return dst, err
	}
	return dst, a.End()
}

// nameQuickly names an answer that begins as most do, with both names and then its outputs,
// and has no names after them. ok is false for all others, and for what is no answer.
func nameQuickly(dst, body []byte, n *Naming) (out []byte, ok bool) {
	rest, ok := skipText(body, `{"model_name":`)
	if !ok {
		return dst, false
	}
	if rest, ok = skipText(rest, `,"model_version":`); !ok {
		return dst, false
	}
	after, hasID := skipText(rest, `,"id":`)
	if !hasID {
		after = rest
	}
	// A key that is written with an escape, and names that come again, are for others.
	if !bytes.HasPrefix(after, []byte(`,"outputs":[`)) || bytes.IndexByte(after, '\\') >= 0 ||
		bytes.Contains(after, []byte(`"model_`)) ||
		deep(after) ||
		!gjson.ValidBytes(body) {
		return dst, false
	}
	dst = append(append(dst, `{"model_name":`...), n.model...)
	dst = append(append(dst, `,"model_version":`...), n.version...)
	return append(dst, rest...), true
}

// deep reports whether something may nest deeper than is allowed.
func deep(b []byte) bool {
	return bytes.Count(b, []byte("["))+bytes.Count(b, []byte("{")) >= deepestAnswer
}

// skipText returns what follows a prefix and a text in quotes, if body begins so.
func skipText(body []byte, prefix string) (rest []byte, ok bool) {
	if len(body) <= len(prefix) || string(body[:len(prefix)]) != prefix || body[len(prefix)] != '"' {
		return nil, false
	}
	body = body[len(prefix)+1:]
	end := bytes.IndexByte(body, '"')
	if end < 0 || bytes.IndexByte(body[:end], '\\') >= 0 {
		return nil, false
	}
	return body[end+1:], true
}

// CheckBinary says whether an answer with binary tensors is one: JSON of the length that
// its header says, then as many bytes as the outputs say together.
func CheckBinary(length int64, json []byte, total int64) error {
	sizes := int64(0)
	for _, s := range gjson.GetBytes(json, "outputs.#.parameters.binary_data_size").Array() {
		if s.Int() < 0 || s.Int() > total {
			return &Malformed{"has a binary output of no possible size"}
		}
		sizes += s.Int()
	}
	if length+sizes != total {
		return &Malformed{"has binary outputs of another size than it says"}
	}
	return nil
}
