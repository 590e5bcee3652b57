package profile

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"slices"

	"innerladder/internal/core/signature"
	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Drawing draws rows as a profile has them: the values of each column as often as they were there, and numbers that
// went together going together (a Gaussian copula with Pearson's r of the profile as that of the normal scores, Nelsen
// 2006, which is near for columns that are not far from normal). Levels are drawn independently of all else.
type Drawing struct {
	exact   *signature.Signature
	request json.RawMessage
	// Columns are the inputs that it draws, in the order of the request; Kept are the others, which stay as they are
	// there.
	Columns, Kept []string
	parts         []part
	// factor makes numbers that go together out of independent ones; nil where none do.
	factor *mat.TriDense
	dice   *rand.Rand
}

// part is an input that is drawn.
type part struct {
	*sketch.Column
	whole, nullable bool
	width           int
	// at is its place in the factor, −1 where it is drawn by itself.
	at int
}

// NewDrawing draws rows like a request of one row to who takes an exact signature: inputs that the profile has are
// drawn, those that are whole in the declared signature as whole numbers. The same seed draws the same rows.
func NewDrawing(p *Profile, exact, declared *signature.Signature, request json.RawMessage, seed uint64,
) (*Drawing, error) {
	own, err := signature.TakeApart(request)
	if err != nil {
		return nil, err
	}
	d := &Drawing{exact: exact, request: request, dice: rand.New(rand.NewPCG(seed, 5))}
	place := map[string]int{}
	for _, in := range own.Inputs {
		c, ref := exact.Input(in.Name), p.Columns[in.Name]
		if ref == nil || ref.Seen() == ref.Outside() || c == nil {
			d.Kept = append(d.Kept, in.Name)
			continue
		}
		one := part{ref, c.Type == signature.Integer, c.Nullable, len(in.Data), -1}
		if known := declared.Input(in.Name); known != nil && known.Type == signature.Integer {
			one.whole = true
		}
		if ref.Bins.Numeric() && one.width == 1 && len(place) < mostCorrelated {
			one.at = len(place)
			place[in.Name] = one.at
		}
		d.Columns, d.parts = append(d.Columns, in.Name), append(d.parts, one)
	}
	d.factor = factorOf(p.Correlations, place)
	return d, nil
}

// factorOf is how independent normal numbers become some that go together as pairs of columns do. Where what is said of
// pairs cannot be so of all at once (each pair has its own rows), they go together a little less.
func factorOf(pairs []Correlation, place map[string]int) *mat.TriDense {
	const steps = 50
	n := len(place)
	for step := range steps {
		if n == 0 {
			break
		}
		share := 1 - math.Max(1e-9, float64(step)/steps)
		r := mat.NewSymDense(n, nil)
		for i := range n {
			r.SetSym(i, i, 1)
		}
		for _, c := range pairs {
			a, isA := place[c.A]
			b, isB := place[c.B]
			if isA && isB {
				r.SetSym(a, b, share*c.R)
			}
		}
		var chol mat.Cholesky
		if chol.Factorize(r) {
			factor := new(mat.TriDense)
			chol.LTo(factor)
			return factor
		}
	}
	return nil
}

// Next draws a row. A missing value is drawn as often as it was there, where it may be missing.
func (d *Drawing) Next() (signature.Row, error) {
	normal := make([]float64, len(d.parts))
	for i := range normal {
		normal[i] = d.dice.NormFloat64()
	}
	values := map[string]any{}
	for i, c := range d.parts {
		list := make([]any, c.width)
		for k := range list {
			z := d.dice.NormFloat64()
			if c.at >= 0 && d.factor != nil {
				z = 0
				for b := range c.at + 1 {
					z += d.factor.At(c.at, b) * normal[b]
				}
			}
			if missing := d.dice.Float64()*float64(c.Total()) < float64(c.Missing); !missing || !c.nullable {
				list[k] = c.At(distuv.UnitNormal.CDF(z))
			}
			if x, is := list[k].(float64); is && c.whole {
				list[k] = math.Round(x)
			}
		}
		values[d.Columns[i]] = list
	}
	request, err := d.exact.Override(d.request, values)
	if err != nil {
		return signature.Row{}, err
	}
	return signature.TakeApart(request)
}

// Rows draws so many rows.
func (d *Drawing) Rows(n int) ([]signature.Row, error) {
	out := make([]signature.Row, 0, n)
	for range n {
		r, err := d.Next()
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// Moves reports whether it draws an input.
func (d *Drawing) Moves(input string) bool { return slices.Contains(d.Columns, input) }
