package scoring

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/signature"
	"innerladder/internal/oip"

	"github.com/tidwall/gjson"
)

const (
	// firstPause and longestPause are how long it is waited for a model server that is away.
	firstPause   = 100 * time.Millisecond
	longestPause = 5 * time.Second
	// mostTries is how often a single row is asked that is not answered in time, or at which the version fails.
	mostTries = 3
)

// answer finds out what becomes of some rows.
func (r *run) answer(ctx context.Context, w *work) (out result) {
	w.reasons, w.late = w.broken, make([]bool, len(w.rows))
	w.lines = make([][]byte, len(w.rows))
	body, fit := w.form.Fit(w.rows, w.columns, w.reasons)
	if w.form.Alone || r.alone.Load() {
		for i := range fit {
			if out.err = r.some(ctx, w, fit[i:i+1], nil); out.err != nil {
				return out
			}
		}
	} else if len(fit) > 0 {
		if out.err = r.some(ctx, w, fit, body); out.err != nil {
			return out
		}
		refused := slices.ContainsFunc(fit, func(i int) bool { return w.reasons[i] != "" })
		if len(fit) > 1 && w.refused == len(fit)-1 && !refused {
			r.alone.Store(true) // no batch was taken, and each row of it was
		}
	}
	for i, row := range w.rows {
		number := w.first + int64(i) + 1
		if why := w.reasons[i]; why != "" {
			out.aside = append(out.aside, aside{asideLine(number, why, row), why})
			if w.late[i] {
				out.tooLate++
			}
			continue
		}
		out.answers, out.answered = append(append(out.answers, w.lines[i]...), '\n'), out.answered+1
	}
	return out
}

// asideLine is the line of a row that is put aside.
func asideLine(number int64, reason string, row []signature.Cell) []byte {
	line := strconv.AppendInt([]byte{'['}, number, 10)
	line = signature.AppendText(append(line, ','), reason)
	line = append(line, ",["...)
	for k, c := range row {
		if k > 0 {
			line = append(line, ',')
		}
		line = signature.AppendCell(line, c)
	}
	return append(line, "]]\n"...)
}

// some asks for some rows at once, with the request of them where it is made already, and for halves of them where that
// is refused, down to the row that it is about.
func (r *run) some(ctx context.Context, w *work, some []int, body []byte) error {
	if body == nil {
		rows := make([][]signature.Cell, len(some))
		for k, i := range some {
			rows[k] = w.rows[i]
		}
		body, _ = w.form.Fit(rows, w.columns, make([]string, len(rows)))
	}
	why, wasLate, err := r.ask(ctx, w, some, body)
	switch {
	case err != nil || why == "":
		return err
	case len(some) == 1:
		w.reasons[some[0]], w.late[some[0]] = why, wasLate
		return nil
	}
	w.refused++
	half := len(some) / 2
	if err := r.some(ctx, w, some[:half], nil); err != nil {
		return err
	}
	return r.some(ctx, w, some[half:], nil)
}

// errAway is said where a model server is away for longer than one waits.
var errAway = errors.New("the model server is away")

// ask sends one request until it is answered, well or not: it waits for a server that is away. Why is empty where the
// answers stand in the lines of the work.
func (r *run) ask(ctx context.Context, w *work, some []int, body []byte) (why string, late bool, err error) {
	begun, pause := time.Now(), firstPause
	for tries := 1; ; tries++ {
		status, answer, asked := r.Ask(ctx, body)
		if ctx.Err() != nil {
			return "", false, context.Cause(ctx)
		}
		away := ""
		switch {
		case asked != nil && asked.Error() == oip.NoAnswerInTime:
			if len(some) > 1 || tries == mostTries {
				return asked.Error(), true, nil
			}
			away = asked.Error()
		case asked != nil:
			away = asked.Error()
		case status == http.StatusTooManyRequests, status == http.StatusBadGateway,
			status == http.StatusServiceUnavailable, status == http.StatusGatewayTimeout:
			away = fmt.Sprintf("it answers with status %d%s", status, SaidIn(answer))
		case status >= http.StatusInternalServerError && len(some) == 1 && tries < mostTries:
			away = fmt.Sprintf("it answers with status %d%s", status, SaidIn(answer))
		case status != http.StatusOK:
			r.trouble.Store(nil)
			return fmt.Sprintf("status %d%s", status, SaidIn(answer)), false, nil
		default:
			r.trouble.Store(nil)
			return r.take(w, some, answer), false, nil
		}
		r.trouble.Store(&away)
		if time.Since(begun) > r.Patience {
			return "", false, fmt.Errorf("%w: %s, for %v", errAway, away, time.Since(begun).Round(time.Second))
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return "", false, context.Cause(ctx)
		}
		pause = min(2*pause, longestPause)
	}
}

// SaidIn is the error in an answer, if it names one.
func SaidIn(answer []byte) string {
	if said := gjson.GetBytes(answer, "error"); said.Type == gjson.String && gjson.ValidBytes(answer) {
		return fmt.Sprintf(": %.300s", said.Str)
	}
	return ""
}

// take reads the answers of some rows into their lines; it says why that cannot be done.
func (r *run) take(w *work, some []int, answer []byte) string {
	tensors, err := oip.Raws(answer, "outputs")
	if err != nil {
		return "the answer cannot be read: " + err.Error()
	}
	if len(tensors) == 0 || tensors[0].Rows() != len(some) && len(some) > 1 {
		return fmt.Sprintf("%d rows were asked for, and the answer has others", len(some))
	}
	if len(some) == 1 { // whatever its first dimension says, it is of this row
		for i := range tensors {
			tensors[i].Shape = append([]int64{1}, tensors[i].Shape...)
		}
	}
	names := namesOf(tensors)
	if wanted := r.agreed(names); !slices.Equal(wanted, names) {
		return fmt.Sprintf("the answer has other outputs than those before: %s", strings.Join(names, ", "))
	}
	for k, i := range some {
		line := strconv.AppendInt([]byte{'['}, w.first+int64(i)+1, 10)
		line = w.form.AppendKept(line, w.rows[i])
		for j := range tensors {
			t := &tensors[j]
			parts := t.Parts()
			for _, v := range t.Data[k*parts : (k+1)*parts] {
				line = append(append(line, ','), v...)
			}
		}
		w.lines[i] = append(line, ']')
	}
	return ""
}

// namesOf are the columns that the outputs of an answer make.
func namesOf(tensors []oip.Raw) []string {
	names := []string{}
	for i := range tensors {
		for p := range tensors[i].Parts() {
			names = append(names, tensors[i].PartName(p))
		}
	}
	return names
}

// agreed are the columns of all answers: those of the first one.
func (r *run) agreed(names []string) []string {
	r.outputs.CompareAndSwap(nil, &names)
	return *r.outputs.Load()
}
