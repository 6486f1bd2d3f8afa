// Package store keeps content-addressed blocks in packs, with parity beside them, an index derived from them, locks,
// and small documents by name. It knows nothing of what the blocks mean: package shelf puts twins into it.
// docs/shelf-format.md is the full description of the format; this package and shelf are its reference.
//
// Durability: what a document refers to is on the medium before the document appears, in one step. A process killed at
// any moment leaves everything earlier intact. Whatever publishes or removes holds a lock, and makes sure of it right
// before that step; readers need none.
package store
