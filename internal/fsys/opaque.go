package fsys

import (
	"fmt"
	"iter"
	"strings"

	"twinshelf/internal/signature"
	"twinshelf/internal/span"
)

// foreign is what is known by its signature alone. All of it counts as used.
type foreign struct{ info Info }

func (f foreign) Info() Info { return f.info }

func (f foreign) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) { yield(span.Span{End: f.info.Size}, nil) }
}

// opaque describes an area with one signature that isn't read here, or with several of any kind: then nothing is
// believed.
func opaque(volumes []Volume, marks []signature.Found, size int64) Volume {
	f := foreign{Info{Size: size, Unit: 512}}
	var kinds []string
	for _, m := range marks { // what holds or hides the rest comes first
		k := m.Kind
		if m.Class == signature.Encrypted {
			k = signature.EncryptedKind(k)
		}
		kinds = append(kinds, k)
	}
	for _, v := range volumes {
		kinds = append(kinds, v.Info().Kind)
	}
	f.info.Kind = strings.Join(kinds, " and ")
	if len(kinds) > 1 {
		f.info.Opaque = fmt.Sprintf("it bears the signatures of more than one kind (%s), so none is believed",
			f.info.Kind)
		return f
	}
	m := marks[0]
	f.info.Label, f.info.ID = m.Label, m.ID
	switch m.Class {
	case signature.Encrypted:
		f.info.Opaque = "it is encrypted, and only its key tells what is used"
	case signature.Member:
		f.info.Opaque = "it is part of something larger (" + m.Kind + ")"
	case signature.Asleep:
		f.info.Opaque = "it holds a sleeping system"
		f.info.Unclean = f.info.Opaque
	default:
		f.info.Opaque = m.Kind + " isn't read here"
	}
	return f
}

// randomLook is how much of the start of an unknown area is judged, in bytes.
const randomLook = 64 << 10
