package intake

import "innerladder/internal/core/check"

// Cases reads tests of what is deployed, a YAML file of ours. What is wrong is said with line and column.
func Cases(text []byte) (check.Cases, error) {
	var c check.Cases
	err := bound(text, "cases", "innerladder help check", &c, c.Check)
	return c, err
}
