package door

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"github.com/pkg/sftp"
)

// Filelist lists and describes.
func (s *session) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	name := clean(r.Filepath)
	switch r.Method {
	case "List":
		return s.list(name)
	case "Stat":
		if name == StatementFile {
			b, err := s.statement()
			return listed{said(len(b))}, err
		}
		st, err := s.root.Stat(name)
		return listed{st}, plain(err)
	}
	return nil, s.denied(r.Method, name, "nobody does that here")
}

// Lstat describes a name itself.
func (s *session) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	st, err := s.root.Lstat(clean(r.Filepath))
	return listed{st}, plain(err)
}

func (s *session) list(name string) (sftp.ListerAt, error) {
	d, err := s.root.Open(name)
	if err != nil {
		return nil, plain(err)
	}
	defer d.Close()
	var out listed
	for {
		some, err := d.Readdir(1000)
		out = append(out, some...)
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, plain(err)
		}
		if len(out) > mostListed {
			return nil, fmt.Errorf("there are more than %d entries", mostListed)
		}
	}
}

// listed are entries as they are asked for.
type listed []os.FileInfo

func (l listed) ListAt(into []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(into, l[at:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

// said is the statement as a file: its size.
type said int64

func (said) Name() string       { return StatementFile }
func (n said) Size() int64      { return int64(n) }
func (said) Mode() fs.FileMode  { return 0o400 }
func (said) ModTime() time.Time { return time.Time{} }
func (said) IsDir() bool        { return false }
func (said) Sys() any           { return nil }
