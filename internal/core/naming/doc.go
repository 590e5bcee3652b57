// Package naming says which names things may have.
package naming
