package bucket

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/pace"
)

const (
	// firstRead is how much of an object is read when it is opened, in bytes: small ones need no second request.
	firstRead = 64 << 10
	// tries is how often a range is asked for whose bytes stop coming, firstPause how long it is waited before the
	// second time; each pause is twice as long as the one before.
	tries      = 6
	firstPause = 250 * time.Millisecond
	// mostListed bounds how many names a listing may have.
	mostListed = 10_000_000
)

// Bucket is a folder of a bucket as a backend.
type Bucket struct {
	at        Address
	core      *minio.Core
	transport *http.Transport
	keys      *credentials.Credentials

	checked   sync.Once
	noKeys    error
	deleting  sync.Once
	mayDelete bool
	// reached says that the service answered: that it comes back is worth waiting for.
	reached atomic.Bool
}

// Close ends its connections.
func (b *Bucket) Close() error {
	b.transport.CloseIdleConnections()
	return nil
}

// Place is the address.
func (b *Bucket) Place() string { return b.at.String() }

// Lag is what the address says.
func (b *Bucket) Lag() time.Duration { return b.at.Lag }

// Tick is a second: HTTP tells times no finer (RFC 9110, section 8.8.2).
func (b *Bucket) Tick() time.Duration { return time.Second }

// key is the whole name of an object.
func (b *Bucket) key(name string) string { return path.Join(b.at.Folder, name) }

// ready refuses to ask the service without credentials: it would answer as to anybody.
func (b *Bucket) ready(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	b.checked.Do(func() {
		v, err := b.keys.GetWithContext(nil)
		if err != nil || v.AccessKeyID == "" {
			b.noKeys = &Error{Says: "no credentials for " + b.at.String() + " were found: set AWS_ACCESS_KEY_ID and " +
				"AWS_SECRET_ACCESS_KEY, or write them into the shared file of credentials (~/.aws/credentials), " +
				"whose profile the address may name (profile=…)", Err: errors.Join(ErrNoKeys, err)}
		}
	})
	return b.noKeys
}

// object is an object that is being read, as it was when it was opened.
type object struct {
	b          *Bucket
	name       string
	size       int64
	head       []byte // its first bytes
	tag        string
	version    string // empty where the bucket keeps none
	mu         sync.Mutex
	closedOnce bool
}

// Open opens an object.
func (b *Bucket) Open(ctx context.Context, name string) (backend.Object, error) {
	if err := b.ready(ctx); err != nil {
		return nil, err
	}
	o := &object{b: b, name: name}
	err := b.again(ctx, func() error { return o.first(ctx) })
	if is(err, "InvalidRange") { // an empty object has no first byte
		o.size, o.head = 0, nil
		var st minio.ObjectInfo
		if st, err = b.stat(ctx, name); err == nil && st.Size > 0 {
			err = fmt.Errorf("its size is told as %d bytes, and it has none", st.Size)
		}
	}
	if err != nil {
		return nil, explain("open", name, err)
	}
	return o, nil
}

// first reads the first bytes of an object, and what it is.
func (o *object) first(ctx context.Context) error {
	opts := minio.GetObjectOptions{}
	if err := opts.SetRange(0, firstRead-1); err != nil {
		return err
	}
	body, info, header, err := o.b.core.GetObject(ctx, o.b.at.Bucket, o.b.key(o.name), opts)
	if err != nil {
		return err
	}
	defer body.Close()
	o.tag, o.version, o.size = info.ETag, info.VersionID, info.Size
	if r := header.Get("Content-Range"); r != "" {
		_, whole, _ := strings.Cut(r, "/")
		if o.size, err = strconv.ParseInt(whole, 10, 64); err != nil || o.size < 0 {
			return fmt.Errorf("the service gives a size that can't be: %q", r)
		}
	}
	o.head = make([]byte, min(o.size, firstRead))
	_, err = io.ReadFull(body, o.head)
	return err
}

func (o *object) Size() int64 { return o.size }

func (o *object) closed() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.closedOnce
}

// Close lets go of it.
func (o *object) Close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.closedOnce {
		return fs.ErrClosed
	}
	o.closedOnce = true
	return nil
}

// ReadAt reads a range. An object that was replaced since it was opened isn't there any more, unless the bucket keeps
// versions.
func (o *object) ReadAt(ctx context.Context, p []byte, off int64) (n int, err error) {
	want, err := backend.Window(ctx, o.name, o.closed(), p, off, o.size)
	if len(want) == 0 {
		return 0, err
	}
	if off < int64(len(o.head)) {
		n = copy(want, o.head[off:])
	}
	for n < len(want) && err == nil {
		err = o.b.again(ctx, func() error {
			k, err := o.fetch(ctx, want[n:], off+int64(n))
			if n += k; k > 0 {
				return nil // tries are counted anew as long as it gets on
			}
			return err
		})
	}
	if is(err, "PreconditionFailed") {
		err = fmt.Errorf("it was replaced meanwhile: %w", fs.ErrNotExist)
	}
	switch {
	case err != nil:
		return n, explain("read", o.name, err)
	case n < len(p):
		return n, io.EOF
	}
	return n, nil
}

// fetch asks for a range once.
func (o *object) fetch(ctx context.Context, p []byte, off int64) (int, error) {
	opts := minio.GetObjectOptions{VersionID: o.version}
	if err := opts.SetRange(off, off+int64(len(p))-1); err != nil {
		return 0, err
	}
	if err := opts.SetMatchETag(o.tag); err != nil {
		return 0, err
	}
	body, _, _, err := o.b.core.GetObject(ctx, o.b.at.Bucket, o.b.key(o.name), opts)
	if err != nil {
		return 0, err
	}
	defer body.Close()
	return io.ReadFull(body, p)
}

// again does something that may be done twice, and again where the connection broke. Where the service was never
// there, it isn't waited for.
func (b *Bucket) again(ctx context.Context, work func() error) error {
	pause := firstPause
	for try := 1; ; try++ {
		err := work()
		if answered := answerOf(err).StatusCode != 0; err == nil || answered {
			b.reached.Store(true)
			return err
		}
		if try == tries || ctx.Err() != nil || untrusted(err) ||
			errors.As(err, new(*pace.SpentError)) || !b.reached.Load() && !cut(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		pause *= 2
	}
}

// cut says whether an error is that of a connection that was there.
func cut(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE)
}

// Stat describes an object.
func (b *Bucket) Stat(ctx context.Context, name string) (backend.Info, error) {
	if err := b.ready(ctx); err != nil {
		return backend.Info{}, err
	}
	st, err := b.stat(ctx, name)
	if err != nil {
		return backend.Info{}, explain("describe", name, err)
	}
	return backend.Info{Size: st.Size, Changed: st.LastModified}, nil
}

func (b *Bucket) stat(ctx context.Context, name string) (st minio.ObjectInfo, err error) {
	err = b.again(ctx, func() error {
		var err error
		st, err = b.core.StatObject(ctx, b.at.Bucket, b.key(name), minio.StatObjectOptions{})
		return err
	})
	return st, err
}

// List gives the names in a folder.
func (b *Bucket) List(ctx context.Context, folder string) ([]string, error) {
	return backend.Names(b.Entries(ctx, folder))
}

// Entries gives what is in a folder.
func (b *Bucket) Entries(ctx context.Context, folder string) (out []backend.Entry, err error) {
	if err := b.ready(ctx); err != nil {
		return nil, err
	}
	err = b.again(ctx, func() error {
		out = nil
		return b.each(ctx, b.key(folder), func(o minio.ObjectInfo) {
			out = append(out, backend.Entry{Name: o.Key, Folder: o.ETag == "",
				Info: backend.Info{Size: o.Size, Changed: o.LastModified}, Tag: o.ETag})
		})
	})
	if err != nil {
		return nil, explain("list", folder, err)
	}
	// A folder is listed with its slash, which sorts elsewhere.
	slices.SortFunc(out, func(a, b backend.Entry) int { return strings.Compare(a.Name, b.Name) })
	return slices.CompactFunc(out, func(a, b backend.Entry) bool { return a.Name == b.Name }), nil
}

// AtOnce is as many as connections are kept.
func (b *Bucket) AtOnce() int { return connections }

// Walk gives what lies in a folder and below it.
func (b *Bucket) Walk(ctx context.Context, folder string) (out []backend.Entry, err error) {
	if err := b.ready(ctx); err != nil {
		return nil, err
	}
	prefix := b.key(folder) + "/"
	err = b.again(ctx, func() error {
		ctx, end := context.WithCancel(ctx)
		defer end() // ends the listing where it is left early
		out = nil
		for o := range b.core.ListObjectsIter(ctx, b.at.Bucket, minio.ListObjectsOptions{Prefix: prefix,
			Recursive: true}) {
			if o.Err != nil {
				return o.Err
			}
			if len(out) >= mostListed {
				return fmt.Errorf("there are more than %d objects", mostListed)
			}
			if name, in := strings.CutPrefix(o.Key, prefix); in && name != "" && !strings.HasSuffix(name, "/") {
				out = append(out, backend.Entry{Name: name, Info: backend.Info{Size: o.Size, Changed: o.LastModified},
					Tag: o.ETag})
			}
		}
		return ctx.Err()
	})
	return out, explain("list", folder, err)
}

// each gives what lies in a folder, with the keys cut to the names in it.
func (b *Bucket) each(ctx context.Context, folder string, do func(minio.ObjectInfo)) error {
	ctx, end := context.WithCancel(ctx)
	defer end() // ends the listing where it is left early
	if folder != "" {
		folder += "/"
	}
	n := 0
	for o := range b.core.ListObjectsIter(ctx, b.at.Bucket, minio.ListObjectsOptions{Prefix: folder}) {
		if o.Err != nil {
			return o.Err
		}
		if n++; n > mostListed {
			return fmt.Errorf("there are more than %d objects", mostListed)
		}
		name, in := strings.CutPrefix(o.Key, folder)
		if name = strings.TrimSuffix(name, "/"); !in || name == "" || strings.Contains(name, "/") {
			continue // some services list a folder as an object of its own
		}
		o.Key = name
		do(o)
	}
	return ctx.Err()
}

// Delete deletes an object; a bucket that keeps versions keeps it, though nobody sees it.
func (b *Bucket) Delete(ctx context.Context, name string) error {
	// Deleting what isn't there is no error to the service.
	if _, err := b.Stat(ctx, name); err != nil {
		return err
	}
	return explain("delete", name, b.remove(ctx, name))
}

// Settle has nothing to wait for: what the service answers is so.
func (b *Bucket) Settle(ctx context.Context, _ string) error { return ctx.Err() }

// Free can't be told: buckets have no end, and their quotas aren't shown.
func (b *Bucket) Free(ctx context.Context) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	return 0, fmt.Errorf("the room of a bucket isn't told: %w", errors.ErrUnsupported)
}

// asHead is what tells whether anybody may read the shelf: the object that each one has.
const asHead = "head"

// Concerns are what is less private than it should be: a line that anybody can read, a bucket that anybody may.
func (b *Bucket) Concerns(ctx context.Context, sealed bool) (out []string) {
	service := b.at.service()
	if strings.HasPrefix(service, "http://") && !b.at.local() {
		out = append(out, fmt.Sprintf("the line to %s isn't encrypted: whoever is on it can read and change what goes "+
			"over it, but for what is sealed; use https", service))
	}
	ctx, end := context.WithTimeout(ctx, pace.Silent)
	defer end()
	where := strings.Join([]string{service, b.at.Bucket, b.key(asHead)}, "/")
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, where, nil)
	if err != nil {
		return out
	}
	answer, err := b.transport.RoundTrip(r)
	if err != nil {
		return out
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusOK && !sealed {
		out = append(out, "anybody can read what is in the bucket, without a key, and the shelf is open: have its "+
			"owner close it")
	}
	return out
}
