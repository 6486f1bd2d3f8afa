package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"twinshelf/internal/units"
)

// Notes are small documents in JSON: rules, marks, the journal, and what checks found. Each is replaced in one step.

// maxNote is how large a note may be, in bytes.
const maxNote = 4 << 20

// GetNote reads a note into v, from its copy where the file is hurt; false when there is none.
func (f *files) GetNote(ctx context.Context, file string, v any) (bool, error) {
	b, err := f.GetDocument(ctx, file, KindNote, maxNote)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if c := CopyOf(file); err != nil && c != "" && !errors.Is(err, ErrNewer) {
		if p, cerr := f.GetDocument(ctx, c, KindNote, maxNote); cerr == nil {
			b, err = p, nil
		}
	}
	if err == nil {
		err = belongs(file, b)
	}
	if err == nil {
		if err = json.Unmarshal(units.VisibleJSON(b), v); err != nil {
			err = &HurtError{file, headerLen, "it can't be understood: " + err.Error()}
		}
	}
	return err == nil, err
}

// belongs refuses a note that was written for another place. Those of earlier versions don't say.
func belongs(file string, b []byte) error {
	var at struct {
		File string `json:"file"`
	}
	if json.Unmarshal(b, &at) == nil && at.File != "" && at.File != file {
		return &HurtError{file, headerLen, "it was written as " + at.File + " and put here by somebody else"}
	}
	return nil
}

// PutNote puts a note, its copy first where it has one.
func (f *files) PutNote(ctx context.Context, l *Lock, file string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	at, err := json.Marshal(file)
	if err != nil {
		return err
	}
	if rest, ok := bytes.CutPrefix(b, []byte("{")); ok { // what a note is about is sealed with it
		sep := ","
		if string(rest) == "}" {
			sep = ""
		}
		b = slices.Concat([]byte(`{"file":`), at, []byte(sep), rest)
	}
	if err := f.PutKept(ctx, l, file, f.ring.document(KindNote, b)); err != nil {
		return fmt.Errorf("%s can't be written: %w", file, err)
	}
	return nil
}

// CheckNote reads a note at a place, which may be that of its copy, and gives the file as it stands.
func (f *files) CheckNote(ctx context.Context, at string) ([]byte, error) {
	raw, err := getWhole(ctx, f.b, at, maxNote)
	if err != nil {
		return nil, err
	}
	_, err = f.ring.payload(at, slices.Clone(raw), KindNote)
	return raw, err
}
