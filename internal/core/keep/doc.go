// Package keep says how long what grows is kept.
package keep
