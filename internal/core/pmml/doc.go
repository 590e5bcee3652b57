// Package pmml computes models that are written down in the Predictive Model Markup Language, versions 3 to 4.4:
// regression, general regression, trees, neural networks, clusters of centres, and models made of those. Load refuses
// what is not computed here by the element's or function's name; Row.Score computes one row.
package pmml
