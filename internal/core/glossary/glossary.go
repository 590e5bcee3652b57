// Package glossary says what the words of the product mean, for people who meet them for the first time: the command
// line, the console and the README have them from here.
package glossary

// Term is a word with what it means.
type Term struct {
	Word  string `json:"word"`
	Means string `json:"means"`
}

// Terms are all of them, in the order in which one meets them.
func Terms() []Term {
	return []Term{
		{"version", "one set of model files with what is known of it, named MODEL@NUMBER; it never changes"},
		{"ladder, rung", "the approval stages of a project and one of them; a version stands on one rung"},
		{"gate", "what must be shown, and who must sign, before a version steps up to a rung"},
		{"promotion", "a request that a version steps up; it is carried out when its gate is passed"},
		{"evidence", "a report about a version that gates read; it cannot be changed"},
		{"environment", "a group of machines, such as a plant or a cloud region"},
		{"place, placement", "say at which addresses in an environment a version runs; that it runs there"},
		{"endpoint", "the name that callers ask; it says nothing of which version answers"},
		{"split", "the numbered decision who answers for an endpoint, and in which shares"},
		{"lane", "one version's share of an endpoint's traffic: main, on trial, or a shadow"},
		{"trial", "a candidate that answers a share of the requests while it is held against main"},
		{"shadow", "a version that gets copies of requests, and whose answers nobody gets"},
		{"rollout, plan", "a move of an endpoint to another version, step by step, and the rules that it follows"},
		{"guard", "a limit on how much worse than main a trial may be; past it the trial is stopped"},
		{"watch, alert", "a limit on how an endpoint does over weeks, and the notice that it is passed"},
		{"drift", "inputs or predictions that are no longer distributed as in the reference"},
		{"reference profile", "how the inputs and outputs of a version were distributed when it was made"},
		{"record", "everything that anybody did, in lines that cannot be changed unnoticed"},
	}
}
