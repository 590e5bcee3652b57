// Package agent stands beside versions that answer where the gateway does not reach: at the edge, in batches, in
// another cluster. It takes observations as JSON lines from files, standard input or HTTP, sums them up, and tells the
// service.
//
// Everything goes through one SQLite file, in three steps that are each all or nothing: lines are taken in together
// with how far their file was read; lines become a numbered batch and are gone; a batch goes when the service has taken
// it, and the service takes each number once. So nothing is lost when the agent, the service or what is between them
// ends at any moment, and nothing counts twice.
package agent
