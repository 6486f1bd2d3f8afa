// Package shelf keeps twins in a store: what each describes, its block maps, a twin's disk as a Device, proofs, marks
// and the journal. docs/shelf-format.md is the full description of the format.
package shelf
