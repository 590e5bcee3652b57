// Package sketch holds the mergeable summaries that stand for traffic: counts,
// latency quantiles, histograms of inputs and outputs, and distinct counts. Any two
// summaries of the same endpoint merge, so any span of time can be compared without
// keeping a single request.
package sketch
