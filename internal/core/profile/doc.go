// Package profile reads rows once and keeps their distributions: the reference that drift is
// measured against. Memory does not grow with the rows.
package profile
