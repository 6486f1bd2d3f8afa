package bucket

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/store/backend"
)

const (
	// orphanAge is how old an upload is without a mark before it is thrown away: its writer was killed between two
	// requests.
	orphanAge = 7 * 24 * time.Hour
	// mostMark bounds a mark, in bytes.
	mostMark = 4096
	// mostParts is what the protocol allows.
	mostParts = 10_000
)

// mark says which upload a label means.
type mark struct {
	Key string `json:"key"`
	ID  string `json:"id"`
}

// parts is a large upload, of which parts are on their way.
type parts struct {
	u     *upload
	id    string
	sent  int64 // bytes of those that were sent off
	group sync.WaitGroup
	slots chan struct{}

	mu   sync.Mutex
	done []minio.CompletePart
	err  error
}

// beginParts begins a large upload.
func (b *Bucket) beginParts(ctx context.Context, u *upload) (*parts, error) {
	var id string
	err := b.again(ctx, func() (err error) {
		id, err = b.core.NewMultipartUpload(ctx, b.at.Bucket, b.key(u.name), u.facts())
		return err
	})
	if err != nil {
		return nil, err
	}
	p := &parts{u: u, id: id, slots: make(chan struct{}, inFlight)}
	text, err := json.Marshal(mark{b.key(u.name), id})
	if err == nil {
		err = b.putMark(ctx, u.markName(), text)
	}
	if err != nil {
		return nil, errors.Join(err, p.abandon(context.WithoutCancel(ctx)))
	}
	return p, nil
}

// markName is where the mark of an upload lies that is on its way: a service doesn't tell whose it is.
func (u *upload) markName() string { return backend.TempFolder + "/" + u.label }

func (b *Bucket) putMark(ctx context.Context, name string, text []byte) error {
	return b.again(ctx, func() error {
		_, err := b.core.PutObject(ctx, b.at.Bucket, b.key(name), bytes.NewReader(text),
			int64(len(text)), "", "", minio.PutObjectOptions{SendContentMd5: true, DisableMultipart: true})
		return err
	})
}

// send sends the next bytes off; it waits only where enough are on their way.
func (p *parts) send(ctx context.Context, n int64) error {
	if err := p.problem(); err != nil {
		return err
	}
	number := len(p.done) + 1
	if number > mostParts {
		return fmt.Errorf("an object of more than %d parts can't be put", mostParts)
	}
	p.mu.Lock()
	p.done = append(p.done, minio.CompletePart{PartNumber: number})
	p.mu.Unlock()
	from := p.sent
	p.sent += n
	select {
	case p.slots <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	p.group.Go(func() {
		defer func() { <-p.slots }()
		tag, err := p.put(ctx, number, from, n)
		p.mu.Lock()
		defer p.mu.Unlock()
		p.done[number-1].ETag = tag
		if p.err == nil {
			p.err = err
		}
	})
	return nil
}

// put puts a part.
func (p *parts) put(ctx context.Context, number int, from, n int64) (tag string, err error) {
	b := p.u.b
	sum, err := md5Of(&p.u.kept, from, n)
	if err != nil {
		return "", err
	}
	err = b.again(ctx, func() error {
		part, err := b.core.PutObjectPart(ctx, b.at.Bucket, b.key(p.u.name), p.id, number,
			io.NewSectionReader(&p.u.kept, from, n), n, minio.PutObjectPartOptions{Md5Base64: sum})
		tag = part.ETag
		return err
	})
	return tag, err
}

func (p *parts) problem() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.err
}

// wait waits for the parts that are on their way.
func (p *parts) wait() error {
	p.group.Wait()
	return p.problem()
}

// mostRestarts is how often an upload is begun anew that a service lost.
const mostRestarts = 3

// finish sends the rest, and makes one object of the parts. A service may lose an upload when it is cut off, also
// after it said that the object is there: then all of it is sent once more.
func (p *parts) finish(ctx context.Context) error {
	b, u := p.u.b, p.u
	for again := 0; ; again++ {
		err := p.complete(ctx)
		there := u.happened(ctx, err)
		if there {
			_ = b.remove(context.WithoutCancel(ctx), u.markName()) // sweeping takes it where this fails
			return nil
		}
		if err == nil {
			err = fmt.Errorf("the service said that it was put, and it isn't there: %w", fs.ErrNotExist)
		}
		lost := errors.Is(err, fs.ErrNotExist) || is(err, "NoSuchUpload", "InvalidPart")
		if !lost || again == mostRestarts {
			return err
		}
		if _, gone := b.stat(ctx, u.markName()); gone != nil {
			return err // somebody swept it away, and must not find it again
		}
		if err := p.restart(ctx); err != nil {
			return err
		}
	}
}

// complete sends the rest, and asks for one object of the parts.
func (p *parts) complete(ctx context.Context) error {
	if rest := p.u.kept.Size() - p.sent; rest > 0 {
		if err := p.send(ctx, rest); err != nil {
			return err
		}
	}
	if err := p.wait(); err != nil {
		return err
	}
	b := p.u.b
	if _, err := b.stat(ctx, p.u.markName()); err != nil {
		return fmt.Errorf("what was uploaded so far was swept away: %w", err)
	}
	return b.again(ctx, func() error {
		_, err := b.core.CompleteMultipartUpload(ctx, b.at.Bucket, b.key(p.u.name), p.id, p.done,
			p.u.unless(minio.PutObjectOptions{}))
		return err
	})
}

// restart begins the upload anew.
func (p *parts) restart(ctx context.Context) error {
	fresh, err := p.u.b.beginParts(p.u.ctx, p.u)
	if err != nil {
		return err
	}
	p.id, p.sent, p.done, p.err = fresh.id, 0, nil, nil
	for p.u.kept.Size()-p.sent >= partSize {
		if err := p.send(ctx, partSize); err != nil {
			return err
		}
	}
	return nil
}

// abandon throws the upload away.
func (p *parts) abandon(ctx context.Context) error {
	p.group.Wait()
	b := p.u.b
	err := b.throwAway(ctx, mark{b.key(p.u.name), p.id})
	return errors.Join(err, b.remove(ctx, p.u.markName()))
}

// remove deletes an object, whether it is there or not.
func (b *Bucket) remove(ctx context.Context, name string) error {
	return b.again(ctx, func() error {
		return b.core.RemoveObject(ctx, b.at.Bucket, b.key(name), minio.RemoveObjectOptions{})
	})
}

// Sweep throws away what uploads left behind whose writers are gone.
func (b *Bucket) Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error {
	if err := b.ready(ctx); err != nil {
		return err
	}
	marks := map[string]time.Time{}
	err := b.each(ctx, b.key(backend.TempFolder), func(o minio.ObjectInfo) { marks[o.Key] = o.LastModified })
	if err != nil {
		return explain("list", backend.TempFolder, err)
	}
	known := map[string]bool{}
	for label, changed := range marks {
		m, err := b.readMark(ctx, label)
		if err != nil {
			return err
		}
		known[m.ID] = true
		if !abandoned(label, changed) {
			continue
		}
		if err := b.remove(ctx,
			backend.TempFolder+"/"+label); err != nil { // first: its writer looks at it before the last step
			return explain("delete", backend.TempFolder+"/"+label, err)
		}
		if err := b.throwAway(ctx, m); err != nil {
			return err
		}
	}
	return b.sweepOrphans(ctx, known)
}

// readMark reads a mark; one that says nothing that can be understood means no upload.
func (b *Bucket) readMark(ctx context.Context, label string) (m mark, err error) {
	text, err := backend.Get(ctx, b, backend.TempFolder+"/"+label, mostMark)
	if err != nil {
		return m, err
	}
	if json.Unmarshal(text, &m) != nil {
		return mark{}, nil
	}
	return m, nil
}

// throwAway ends an upload.
func (b *Bucket) throwAway(ctx context.Context, m mark) error {
	if m.ID == "" {
		return nil
	}
	err := b.again(ctx, func() error { return b.core.AbortMultipartUpload(ctx, b.at.Bucket, m.Key, m.ID) })
	if is(err, "NoSuchUpload") {
		return nil
	}
	return explain("throw away", m.Key, err)
}

// sweepOrphans throws away old uploads that have no mark.
func (b *Bucket) sweepOrphans(ctx context.Context, known map[string]bool) error {
	ctx, end := context.WithCancel(ctx)
	defer end() // ends the listing where it is left early
	folder := b.at.Folder
	if folder != "" {
		folder += "/"
	}
	for up := range b.core.ListIncompleteUploads(ctx, b.at.Bucket, folder, true) {
		if is(up.Err, "NotImplemented", "AccessDenied") {
			return nil // a service that can't list them has rules of its own for them
		}
		if up.Err != nil {
			return explain("list", "uploads", up.Err)
		}
		if known[up.UploadID] || time.Since(up.Initiated) < orphanAge {
			continue
		}
		if err := b.throwAway(ctx, mark{up.Key, up.UploadID}); err != nil {
			return err
		}
	}
	return ctx.Err()
}
