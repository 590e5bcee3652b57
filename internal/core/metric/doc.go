// Package metric says which metrics there can be, and which of two values is better.
package metric
