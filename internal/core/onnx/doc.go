// Package onnx computes models that are written down in the Open Neural Network Exchange format. Load refuses what is
// not computed here by the operator's name, so that nothing is found out at the first request; Run computes one batch.
//
// The meaning of each operator is that of the ONNX operator specification, for all of its versions where they differ.
// Fractions are added up in the order of gonum's loops and ours, so results agree with those of other runtimes within
// the rounding of the datatype, not bit by bit.
package onnx
