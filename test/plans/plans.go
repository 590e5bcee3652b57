// Package plans has plans of rollouts that tests of several packages follow.
package plans

// Which decides within seconds which of two versions fails less; it is called which.
const Which = `name: which
kind: comparison
compare:
  share: 50 %
  signal: error_rate
  margin: 0.2
  time: 2s
  most: 1m
guards:
  - signal: error_rate
    ratio: 2
    margin: 0.3
capacity: 1
`
