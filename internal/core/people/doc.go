// Package people says who may act: persons and robots, how they come in, and the keys that
// they sign with.
package people
