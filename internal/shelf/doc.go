// Package shelf is the store of captures: content-addressed blocks in packs, an
// index derived from the packs, twins that describe themselves, and proofs.
// docs/shelf-format.md is the full description of the format; this package is
// its reference.
//
// Durability: everything a twin refers to is on the medium before the twin
// appears, in one rename. A process killed at any moment leaves all earlier
// twins intact. One writer at a time holds the shelf's lock; readers need none.
package shelf
