// Package signature says what goes into a model and what comes out of it: columns with their
// types, shapes, ranges and levels, and whether a model server takes and gives the same.
package signature
