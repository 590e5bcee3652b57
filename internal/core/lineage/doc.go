// Package lineage says what comes from what: runs, data sets, code, and the links between them.
package lineage
