package bitlocker

import (
	"strings"
	"time"
	"unicode/utf16"
)

// Kind is what a protector asks for.
type Kind uint16

// The kinds of protectors.
const (
	ClearKey    Kind = 0x0000 // nothing: it lies open, the protection is suspended
	ChipKey     Kind = 0x0100 // the machine's security chip (TPM)
	StartupKey  Kind = 0x0200 // a key file
	ChipAndPIN  Kind = 0x0500
	RecoveryKey Kind = 0x0800 // 48 digits
	Password    Kind = 0x2000
)

var kindWords = map[Kind]string{ClearKey: "clear key", ChipKey: "security chip (TPM)", StartupKey: "start-up key file",
	ChipAndPIN: "security chip (TPM) and PIN", RecoveryKey: "recovery key", Password: "password"}

func (k Kind) String() string {
	if w := kindWords[k]; w != "" {
		return w
	}
	return "a protector of another kind"
}

// Protector is one of the ways to the key of the volume.
type Protector struct {
	Kind    Kind
	ID      string // GUID; a recovery key is looked up by its beginning
	Changed time.Time

	salt   []byte // of what is typed
	sealed entry  // the master key
	open   []byte // the clear key
}

// protector reads one.
func protector(e entry) (Protector, bool) {
	if len(e.raw) < vmkNested {
		return Protector{}, false
	}
	p := Protector{Kind: Kind(le.Uint16(e.raw[vmkProtect:])), ID: guid(e.raw[vmkGUID:]),
		Changed: filetime(le.Uint64(e.raw[vmkChanged:]))}
	inner := e.nested(vmkNested)
	if s, ok := first(inner, valueStretch, stretchLen); ok {
		p.salt = s.raw[stretchSalt : stretchSalt+saltLen]
	}
	if k, ok := first(inner, valueKey, keyBytes+32); ok && p.Kind == ClearKey {
		p.open = k.raw[keyBytes : keyBytes+32]
	}
	p.sealed, _ = first(inner, valueSealed, sealedBytes)
	return p, true
}

// Suspended says whether the protection is suspended: the key lies open.
func (v *Volume) Suspended() bool {
	for _, p := range v.Protectors {
		if p.Kind == ClearKey {
			return true
		}
	}
	return false
}

// Words say how the volume is protected, and by which recovery keys.
func (v *Volume) Words() string {
	var kinds, ids []string
	for _, p := range v.Protectors {
		if p.Kind == RecoveryKey {
			ids = append(ids, p.ID)
			continue
		}
		kinds = append(kinds, p.Kind.String())
	}
	words := v.Cipher.String()
	if len(kinds) > 0 {
		words += ", protected by " + strings.Join(kinds, ", ")
	}
	switch {
	case len(ids) == 1:
		words += "; its recovery key has the ID " + ids[0]
	case len(ids) > 1:
		words += "; its recovery keys have the IDs " + strings.Join(ids, ", ")
	}
	return words
}

func utf16Text(b []byte) string {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = le.Uint16(b[2*i:])
	}
	return strings.TrimRight(string(utf16.Decode(u)), "\x00")
}
