package traffic

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

func takes(names ...string) *signature.Signature {
	s := &signature.Signature{}
	for _, n := range names {
		s.Inputs = append(s.Inputs, signature.Column{
			Name: n, Type: signature.Number, Datatype: "FP32", Shape: []int64{-1},
		})
	}
	return s
}

func TestWhichContractASplitIsMadeUnder(t *testing.T) {
	first := Contract{Endpoint: "demand-hourly", Number: 1, Signature: *takes("temp")}
	second := Contract{Endpoint: "demand-hourly", Number: 2, Signature: *takes("temp", "wind")}
	old := Standing{Version: "heat-demand@1", Signature: takes("temp")}
	next := Standing{Version: "heat-demand@2", Signature: takes("temp", "wind")}
	rows := Standing{Version: "heat-demand@3", Signature: &signature.Signature{
		Inputs: []signature.Column{{Name: "temp", Type: signature.Number}},
	}}
	unknown := Standing{Version: "heat-demand@4"}
	for name, c := range map[string]struct {
		decided Decided
		lanes   []Standing
		under   int
		code    string
		says    string
	}{
		"the one in force":    {Decided{first}, []Standing{old}, 1, "", ""},
		"none is known":       {nil, []Standing{unknown}, 0, "", ""},
		"types that are open": {Decided{first}, []Standing{old, rows}, 1, "", ""},
		"breaking": {
			Decided{first},
			[]Standing{old, next},
			0, "split.contract",
			"input wind is added",
		},
		"decided, and all keep it":   {Decided{first, second}, []Standing{next}, 2, "", ""},
		"decided, and none keeps it": {Decided{first, second}, []Standing{old}, 1, "", ""},
		"decided, and one keeps it": {
			Decided{first, second}, []Standing{old, next}, 0, "split.contract", "contract 2 is decided too",
		},
		"nothing is known of a version": {Decided{first}, []Standing{unknown}, 0, "split.contract_unknown", "place it"},
	} {
		under, err := c.decided.Under(c.lanes)
		if under != c.under || fault.Code(err) != c.code || (err != nil && !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: under %d, %v", name, under, err)
		}
	}
	if err := first.Kept([]Standing{unknown, old}); err != nil {
		t.Errorf("a way back is closed for what is not known: %v", err)
	}
	if err := first.Kept([]Standing{next}); fault.Code(err) != "split.contract" {
		t.Errorf("a way back breaks its contract: %v", err)
	}
}

// Whatever is decided and tried in whatever order, no split in force breaks the contract that it
// names, ways back included.
func TestNoSplitBreaksItsContract(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	for range 2000 {
		names := []string{"a", "b", "c"}
		versions := make([]Standing, 4)
		for i := range versions {
			versions[i] = Standing{
				Version:   fmt.Sprintf("m@%d", i+1),
				Signature: takes(names[:1+random.IntN(3)]...),
			}
		}
		var contracts []Contract
		var splits []Split
		force := func(s Split) {
			s.Number = len(splits) + 1
			splits = append(splits, s)
			for _, l := range s.Lanes {
				i := slices.IndexFunc(versions, func(v Standing) bool { return v.Version == l.Version })
				if f := contracts[s.Contract-1].Keeps(l.Version,
					versions[i].Signature); f.Verdict == signature.Breaking {
					t.Fatalf("split %s breaks contract %d: %s", &s, s.Contract, f.Breaks())
				}
			}
		}
		for range 12 {
			main, trial := random.IntN(len(versions)), random.IntN(len(versions))
			switch random.IntN(4) {
			case 0: // a contract is decided
				contracts = append(contracts, Contract{
					Endpoint: "e", Number: len(contracts) + 1, Signature: *versions[main].Signature,
				})
			case 1: // a way back
				if back, err := WayBack(splits); err == nil {
					lanes := []Standing{versions[slices.IndexFunc(versions, func(v Standing) bool {
						return v.Version == back.Main().Version
					})]}
					if contracts[back.Contract-1].Kept(lanes) == nil {
						force(Split{
							Lanes: back.Lanes, Contract: back.Contract, Leaves: len(splits),
							ReturnsTo: back.Number,
						})
					}
				}
			case 2: // a guard
				if n := len(splits); n > 0 && len(splits[n-1].Trials()) > 0 {
					force(Without(splits))
				}
			default:
				if len(contracts) == 0 {
					continue
				}
				inForce := 0
				if n := len(splits); n > 0 {
					inForce = splits[n-1].Contract
				}
				s := Split{Lanes: []Lane{mainLane(versions[main].Version, Whole)}}
				standings := []Standing{versions[main]}
				if main != trial {
					s.Lanes[0].Share = 9000
					s.Lanes = append(s.Lanes, trialLane(versions[trial].Version, 1000))
					standings = append(standings, versions[trial])
				}
				var err error
				if s.Contract, err = Decided(contracts[max(0, inForce-1):]).Under(standings); err == nil {
					force(s)
				}
			}
		}
	}
}
