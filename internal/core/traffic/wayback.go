package traffic

import (
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// LookBack is how many splits are searched for one to return to.
const LookBack = 200

// WayBack finds the split that a person returns to who names none: from the split in force to
// the last one before it that had no trial lane, answered otherwise, and was not itself left for a
// reason. It leads back once: where the split in force is a way back already, whatever comes
// before it was left or is older than what was chosen, so a person must name one. splits are in
// ascending order and end with the one in force. Who got copies does not matter, and nobody gets any after it.
func WayBack(splits []Split) (Split, error) {
	if len(splits) == 0 {
		return Split{}, fault.New(fault.Refused, "back.no_split", "there is no split yet").
			Do("make one first with: innerladder split")
	}
	current := splits[len(splits)-1]
	if current.Leaves > 0 {
		return Split{}, fault.New(fault.Refused, "back.is_way_back", "%s#%d is a way back itself, from #%d: %s",
			current.Endpoint, current.Number, current.Leaves, current.Reason).
			In("to").Do("%s", choices(splits))
	}
	for _, s := range slices.Backward(splits[:len(splits)-1]) {
		if s.Lanes = Answering(s.Lanes); len(s.Trials()) == 0 && s.Left == nil &&
			!slices.Equal(s.Lanes, Answering(current.Lanes)) {
			return s, nil
		}
	}
	return Split{}, fault.New(fault.Refused, "back.nothing_before",
		"%s has had no other split without a trial lane that was not left for a reason", current.Endpoint).
		In("to").Do("%s", choices(splits))
}

// mostChoices is how many splits a refusal offers.
const mostChoices = 5

// choices is the advice to name a split to return to, with the newest that there are and how
// each of them ended.
func choices(splits []Split) string {
	current := splits[len(splits)-1]
	var out []string
	seen := [][]Lane{Answering(current.Lanes)}
	for _, s := range slices.Backward(splits[:len(splits)-1]) {
		s.Lanes = Answering(s.Lanes)
		if len(s.Trials()) > 0 || slices.ContainsFunc(seen, func(l []Lane) bool { return slices.Equal(l, s.Lanes) }) {
			continue
		}
		seen = append(seen, s.Lanes)
		if out = append(out, fmt.Sprintf("-to %d (%s; %s)", s.Number, s.String(), s.End())); len(out) == mostChoices {
			break
		}
	}
	if len(out) == 0 {
		return "make a new split; no other was without a trial lane"
	}
	return "name one, and say why: " + strings.Join(out, ", ")
}

// End says how a split ended that is not in force any more.
func (s *Split) End() string {
	if s.Left == nil {
		return "made place for the next"
	}
	return fmt.Sprintf("left by %s: %s", s.Left.By, s.Left.Why)
}

// Return is what comes into force when a guard takes main away from a version that took over: the other
// has all again. It returns to the last split that was just that, if one was, and keeps its contract.
func Return(splits []Split, incumbent string) Split {
	current := splits[len(splits)-1]
	out := Split{
		Endpoint: current.Endpoint, Lanes: []Lane{{Kind: Main, Version: incumbent, Share: Whole}},
		Leaves: current.Number, Contract: current.Contract,
	}
	for _, s := range slices.Backward(splits[:len(splits)-1]) {
		if s.Main().Version == incumbent {
			out.Contract = s.Contract
			break
		}
	}
	for _, s := range slices.Backward(splits[:len(splits)-1]) {
		if slices.Equal(s.Lanes, out.Lanes) {
			out.ReturnsTo, out.Contract = s.Number, s.Contract
			break
		}
	}
	out.Rules = KeepRules(current.Rules, out.Lanes)
	return out
}

// Without is what comes into force when a guard ends the trials of a split: its main lane takes
// all, whatever was there before. It returns to the last split that was just that, if one was.
func Without(splits []Split) Split {
	current := splits[len(splits)-1]
	main := current.Main()
	main.Share = Whole
	out := Split{Endpoint: current.Endpoint, Lanes: []Lane{main}, Leaves: current.Number, Contract: current.Contract}
	for _, s := range slices.Backward(splits[:len(splits)-1]) {
		if slices.Equal(s.Lanes, out.Lanes) {
			out.ReturnsTo = s.Number
			break
		}
	}
	out.Rules = KeepRules(current.Rules, out.Lanes)
	return out
}
