package ladder

// Answers are what people have answered to a promotion so far.
type Answers struct {
	// Promotion is its id, AskedBy who asked for it.
	Promotion, AskedBy string
	SignOffs           []SignOff
	Ticks              []Tick
}

// Refusal is a no that counts, nil when there is none.
func (a *Answers) Refusal() *SignOff {
	for i, s := range a.SignOffs {
		if s.Valid() && s.Answer == No && s.By != a.AskedBy {
			return &a.SignOffs[i]
		}
	}
	return nil
}

// Tick finds the tick of an item, stale or not; nil when there is none.
func (a *Answers) Tick(rung, item string) *Tick {
	for i, t := range a.Ticks {
		if t.Rung == rung && t.Item == item {
			return &a.Ticks[i]
		}
	}
	return nil
}

// Ticked finds the tick of an item that counts.
func (a *Answers) Ticked(rung, item string) *Tick {
	if t := a.Tick(rung, item); t != nil && !t.Stale && t.By != a.AskedBy {
		return t
	}
	return nil
}
