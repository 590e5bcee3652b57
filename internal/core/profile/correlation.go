package profile

import (
	"cmp"
	"math"
	"slices"

	"innerladder/internal/core/signature"
)

// Correlation is how two numeric columns go together: Pearson's r over the rows in
// which both are present. Columns that do not vary have none.
type Correlation struct {
	A    string  `json:"a"`
	B    string  `json:"b"`
	R    float64 `json:"r" description:"Pearson's correlation, −1 to 1"`
	Rows int     `json:"rows"`
}

// crossProducts accumulates what correlations need. Rows in which all of the columns
// are present share one set of sums; others are added pair by pair.
type crossProducts struct {
	at    []int // positions of the columns
	shift []float64
	x     []float64
	full  moments
	pairs map[[2]int]*pairMoments
	fullN int
}

// moments are Σx and Σxy of shifted values, by column and by pair (upper triangle).
type moments struct {
	sum   []float64
	cross []float64
}

type pairMoments struct {
	n                int
	x, y, xx, yy, xy float64
}

// newCrossProducts takes the columns that hold numbers in the first batch.
func newCrossProducts(columns int, rows [][]signature.Cell) *crossProducts {
	c := &crossProducts{pairs: map[[2]int]*pairMoments{}}
	for i := range columns {
		numeric, shift := false, 0.0
		for _, row := range rows {
			if i >= len(row) || row[i].Kind == signature.MissingCell {
				continue
			}
			if row[i].Kind != signature.NumberCell || math.Abs(row[i].Number) > 1e120 {
				numeric = false
				break
			}
			if !numeric {
				shift = row[i].Number // keeps the sums small, so little is lost in the differences
			}
			numeric = true
		}
		if numeric && len(c.at) < mostCorrelated {
			c.at, c.shift = append(c.at, i), append(c.shift, shift)
		}
	}
	d := len(c.at)
	c.x = make([]float64, d)
	c.full = moments{make([]float64, d), make([]float64, d*(d+1)/2)}
	return c
}

func (c *crossProducts) add(row []signature.Cell) {
	whole := true
	for k, i := range c.at {
		if i >= len(row) || row[i].Kind != signature.NumberCell || math.Abs(row[i].Number) > 1e120 {
			c.x[k], whole = math.NaN(), false
			continue
		}
		c.x[k] = row[i].Number - c.shift[k]
	}
	if whole {
		c.fullN++
		cross := c.full.cross
		for a, xa := range c.x {
			c.full.sum[a] += xa
			rest := c.x[a:]
			for b, xb := range rest {
				cross[b] += xa * xb
			}
			cross = cross[len(rest):]
		}
		return
	}
	for a, xa := range c.x {
		if math.IsNaN(xa) {
			continue
		}
		for b := a + 1; b < len(c.x); b++ {
			xb := c.x[b]
			if math.IsNaN(xb) {
				continue
			}
			p := c.pairs[[2]int{a, b}]
			if p == nil {
				p = &pairMoments{}
				c.pairs[[2]int{a, b}] = p
			}
			p.n++
			p.x, p.y, p.xx, p.yy, p.xy = p.x+xa, p.y+xb, p.xx+xa*xa, p.yy+xb*xb, p.xy+xa*xb
		}
	}
}

func (c *crossProducts) correlations(names []string) []Correlation {
	if c == nil {
		return nil
	}
	d := len(c.at)
	index := func(a, b int) int { return a*d - a*(a-1)/2 + b - a }
	var out []Correlation
	for a := range d {
		for b := a + 1; b < d; b++ {
			p := pairMoments{
				c.fullN, c.full.sum[a], c.full.sum[b], c.full.cross[index(a, a)],
				c.full.cross[index(b, b)], c.full.cross[index(a, b)],
			}
			if q := c.pairs[[2]int{a, b}]; q != nil {
				p.n, p.x, p.y, p.xx, p.yy, p.xy = p.n+q.n, p.x+q.x, p.y+q.y, p.xx+q.xx, p.yy+q.yy, p.xy+q.xy
			}
			n := float64(p.n)
			vx, vy := p.xx-p.x*p.x/n, p.yy-p.y*p.y/n
			// Less than what rounding leaves of the squares is no variation.
			if p.n < 3 || vx <= 1e-12*p.xx || vy <= 1e-12*p.yy {
				continue
			}
			r := (p.xy - p.x*p.y/n) / math.Sqrt(vx*vy)
			if math.IsNaN(r) {
				continue
			}
			out = append(out, Correlation{names[c.at[a]], names[c.at[b]], math.Max(-1, math.Min(1, r)), p.n})
		}
	}
	slices.SortStableFunc(out, func(x, y Correlation) int { return cmp.Compare(math.Abs(y.R), math.Abs(x.R)) })
	return out
}
