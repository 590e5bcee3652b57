// Package wire holds what goes over the API and is no noun of the core: what a call asks
// for, what it gets beyond the things themselves, parts of lists, and problem details. It
// stands on the core alone, so that programs can speak to the service without its server.
package wire
