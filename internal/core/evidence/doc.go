// Package evidence says what a report that is attached to a version holds, and reads the
// numbers and the verdict out of those whose form it knows.
package evidence
