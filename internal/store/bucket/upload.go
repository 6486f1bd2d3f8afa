package bucket

import (
	"context"
	"crypto/md5"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/spool"
)

const (
	// partSize is how much goes up at once, in bytes; what is smaller is put in one request. 5 MiB is the least that
	// the protocol allows, 10,000 parts the most.
	partSize = 16 << 20
	// inFlight is how many parts of an upload are on their way at once.
	inFlight = 4
	// writerKey names whose upload an object was, among the facts that the service keeps with it.
	writerKey = "Twinshelf-Upload"
)

// upload is an object that is being written.
type upload struct {
	b       *Bucket
	ctx     context.Context // of the parts, which are on their way between calls
	stop    context.CancelFunc
	name    string
	label   string
	options backend.Options

	kept  spool.Spool
	parts *parts // nil for what is put in one request
	ended bool
}

// Create begins an object.
func (b *Bucket) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	if err := b.ready(ctx); err != nil {
		return nil, err
	}
	var salt [8]byte
	_, _ = rand.Read(salt[:])
	u := &upload{b: b, name: name, label: o.Owner + "-" + hex.EncodeToString(salt[:]), options: o}
	u.ctx, u.stop = context.WithCancel(context.WithoutCancel(ctx))
	return u, nil
}

// facts are what an object is put with.
func (u *upload) facts() minio.PutObjectOptions {
	return minio.PutObjectOptions{UserMetadata: map[string]string{writerKey: u.label}, SendContentMd5: true,
		ContentType: "application/octet-stream", DisableMultipart: true}
}

// unless has a put refused where the object is there already.
func (u *upload) unless(o minio.PutObjectOptions) minio.PutObjectOptions {
	if u.options.IfAbsent {
		o.SetMatchETagExcept("*")
	}
	return o
}

func (u *upload) Write(p []byte) (int, error) {
	if u.ended {
		return 0, fs.ErrClosed
	}
	n, err := u.kept.Write(p)
	if err != nil {
		return n, err
	}
	if u.parts == nil && u.kept.Size() >= partSize {
		if u.parts, err = u.b.beginParts(u.ctx, u); err != nil {
			return n, explain("put", u.name, err)
		}
	}
	for u.parts != nil && u.kept.Size()-u.parts.sent >= partSize {
		if err := u.parts.send(u.ctx, partSize); err != nil {
			return n, explain("put", u.name, err)
		}
	}
	return n, nil
}

func (u *upload) ReadAt(p []byte, off int64) (int, error) {
	if u.ended {
		return 0, fs.ErrClosed
	}
	return u.kept.ReadAt(p, off)
}

// Sync waits for what is on its way. What is smaller than a part goes with Commit, in one step.
func (u *upload) Sync(ctx context.Context) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case u.ended:
		return fs.ErrClosed
	case u.parts == nil:
		return nil
	}
	return explain("put", u.name, u.parts.wait())
}

// Commit makes the object visible.
func (u *upload) Commit(ctx context.Context) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case u.ended:
		return fs.ErrClosed
	}
	var err error
	if u.parts != nil {
		err = u.parts.finish(ctx)
	} else if err = u.b.putOnce(ctx, u); err != nil && u.happened(ctx, err) {
		err = nil
	}
	if err != nil {
		return explain("put", u.name, err)
	}
	return u.end()
}

// happened says whether an object is there as it was put, whatever was reported: where the answer was lost, and the
// service was asked again, it is there already.
func (u *upload) happened(ctx context.Context, err error) bool {
	if code := answerOf(err).StatusCode; err != nil && code != 0 && code < 500 && !is(err, "PreconditionFailed",
		"NoSuchUpload") {
		return false
	}
	st, err := u.b.stat(ctx, u.name)
	return err == nil && st.UserMetadata[writerKey] == u.label && st.Size == u.kept.Size()
}

// putOnce puts a small object in one request.
func (b *Bucket) putOnce(ctx context.Context, u *upload) error {
	sum, err := md5Of(&u.kept, 0, u.kept.Size())
	if err != nil {
		return err
	}
	return b.again(ctx, func() error {
		_, err := b.core.PutObject(ctx, b.at.Bucket, b.key(u.name), io.NewSectionReader(&u.kept, 0, u.kept.Size()),
			u.kept.Size(), sum, "", u.unless(u.facts()))
		return err
	})
}

// Abort gives the upload up.
func (u *upload) Abort() error {
	if u.ended {
		return nil
	}
	u.stop()
	var err error
	if u.parts != nil {
		err = u.parts.abandon(context.WithoutCancel(u.ctx))
	}
	return errors.Join(err, u.end())
}

// end lets go of what an upload keeps.
func (u *upload) end() error {
	u.ended = true
	u.stop()
	return u.kept.Close()
}

// md5Of is the checksum of a stretch as requests carry it (RFC 1864): the service refuses what doesn't fit.
func md5Of(k *spool.Spool, from, n int64) (string, error) {
	h := md5.New()
	if _, err := io.Copy(h, io.NewSectionReader(k, from, n)); err != nil {
		return "", err
	}
	return base64.StdEncoding.EncodeToString(h.Sum(nil)), nil
}
