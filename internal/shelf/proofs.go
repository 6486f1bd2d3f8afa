package shelf

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/units"
)

// maxProof is how large a proof may be, in bytes.
const maxProof = 16 << 20

// Proof is the evidence that a twin is readable or that a target holds what it should.
type Proof struct {
	Twin   string    `json:"twin"`
	When   time.Time `json:"when"`
	Of     string    `json:"of"` // "the shelf", or the target in words
	Tool   string    `json:"tool"`
	Claims []Claim   `json:"claims"`
	Read   int64     `json:"read"` // bytes
	// Meanwhile is how many of them were read back while the rest was written.
	Meanwhile int64 `json:"read_meanwhile,omitempty"`
}

// OnShelf is what a proof is of that read the twin itself.
const OnShelf = "the shelf"

// OfShelf says whether the proof is of the twin as it stands on the shelf, and not of a target.
func (p *Proof) OfShelf() bool { return p.Of == OnShelf || p.Of == "" }

// ShelfProofs are those proofs of a twin that are of the twin itself: one of a target says nothing about it.
func ShelfProofs(all []*Proof) []*Proof {
	return slices.DeleteFunc(slices.Clone(all), func(p *Proof) bool { return !p.OfShelf() })
}

// TargetProofs are the others.
func TargetProofs(all []*Proof) []*Proof {
	return slices.DeleteFunc(slices.Clone(all), (*Proof).OfShelf)
}

// Topic is which question a claim helps to answer.
type Topic string

const (
	TopicStart    Topic = "start"    // does it start?
	TopicContents Topic = "contents" // is everything there?
	TopicSound    Topic = "sound"    // are its table and its file systems sound?
)

// Claim is one statement with its evidence.
type Claim struct {
	// Topic is empty in proofs by older versions.
	Topic    Topic  `json:"topic,omitempty"`
	About    string `json:"about"`
	Says     string `json:"says"`
	Evidence string `json:"evidence"`
	Holds    bool   `json:"holds"`
}

// Holds says whether every claim holds.
func (p *Proof) Holds() bool {
	return len(p.Claims) > 0 && !slices.ContainsFunc(p.Claims, func(c Claim) bool { return !c.Holds })
}

// oldProof is after which time a proof says little about its twin as it stands now.
const oldProof = 182 * 24 * time.Hour

// Old says whether the proof was made so long ago that the twin should be read again.
func (p *Proof) Old(now time.Time) bool { return now.Sub(p.When) > oldProof }

// Words says the result in a short sentence.
func (p *Proof) Words() string {
	failed := 0
	for _, c := range p.Claims {
		if !c.Holds {
			failed++
		}
	}
	if failed > 0 {
		return fmt.Sprintf("%d of %d claims fail", failed, len(p.Claims))
	}
	return fmt.Sprintf("all %d claims hold", len(p.Claims))
}

// SaveProof keeps a proof with its twin.
func (s *Shelf) SaveProof(ctx context.Context, p *Proof) error {
	if !validID(p.Twin) {
		return fmt.Errorf("a proof of twin %q can't be kept", p.Twin)
	}
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("proofs/%s/%s-%s.proof", p.Twin, p.When.UTC().Format("20060102T150405Z"), store.NewID()[:6])
	if err := s.PutDocument(ctx, nil, name, store.KindProof, b); err != nil {
		return fmt.Errorf("the proof can't be kept in the shelf: %w", err)
	}
	return nil
}

// Proofs gives the proofs of a twin, newest first. Damaged ones are left out
// and reported.
func (s *Shelf) Proofs(ctx context.Context, twin string) (proofs []*Proof, problems []error) {
	if !validID(twin) {
		return nil, []error{fmt.Errorf("%w: %q", ErrNoTwin, twin)}
	}
	files, err := s.Backend().List(ctx, "proofs/"+twin)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, []error{err}
	}
	read, errs := make([]*Proof, len(files)), make([]error, len(files))
	backend.Each(s.Backend(), len(files), func(i int) { read[i], errs[i] = readProof(ctx, s, twin, files[i]) })
	for i := range slices.Backward(files) {
		if errs[i] != nil {
			problems = append(problems, errs[i])
		} else {
			proofs = append(proofs, read[i])
		}
	}
	return proofs, problems
}

func readProof(ctx context.Context, s *Shelf, twin, name string) (*Proof, error) {
	file := "proofs/" + twin + "/" + name
	b, err := s.GetDocument(ctx, file, store.KindProof, maxProof)
	p := new(Proof)
	if err == nil {
		err = json.Unmarshal(units.VisibleJSON(b), p)
	}
	if err == nil && p.Twin != twin {
		err = &store.HurtError{File: file, What: "it is the proof of another twin"}
	}
	return p, err
}
