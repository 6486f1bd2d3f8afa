package backend

import (
	"context"
	"io"
	"io/fs"
)

// Window is what of p a read at off of an object of so many bytes can fill: the beginning of it, as reads beyond the
// end are short. The error is that of a read that gives nothing: of the context, an object that is closed, a place
// before the beginning, or io.EOF.
func Window(ctx context.Context, name string, closed bool, p []byte, off, size int64) ([]byte, error) {
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case closed:
		return nil, fs.ErrClosed
	case off < 0:
		return nil, &fs.PathError{Op: "read", Path: name, Err: fs.ErrInvalid}
	case len(p) == 0:
		return nil, nil
	case off >= size:
		return nil, io.EOF
	}
	return p[:min(int64(len(p)), size-off)], nil
}
