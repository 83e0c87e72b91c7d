//go:build race

package prooftest

// Raced tells that the race detector is on: what takes many minutes under it is sampled there, and run whole without
// it.
const Raced = true
