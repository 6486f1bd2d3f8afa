package bucket

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/store/backend"
)

// ErrNoVersions means that a bucket keeps nothing of what was deleted.
var ErrNoVersions = errors.New("the bucket keeps no versions: what was deleted or replaced is gone")

// version is one that a name had.
type version struct {
	id     string
	when   time.Time
	tag    string
	latest bool
	marker bool // that it was deleted
}

// held is what a name held at a time, by its versions; with no time, before it was deleted. nil is for nothing.
func held(versions []version, asOf time.Time) (then *version) {
	for i := range versions {
		v := &versions[i]
		if asOf.IsZero() && v.marker || !asOf.IsZero() && v.when.After(asOf) {
			continue
		}
		if then == nil || v.latest || !then.latest && v.when.After(then.when) {
			then = v
		}
	}
	return then
}

// BringBack brings everything back as it was at a time, by copying the versions of then over what is there now; with no
// time, everything that was deleted. What was put since and wasn't there then stays, and what only passes by, such as
// locks, isn't brought back.
func (b *Bucket) BringBack(ctx context.Context, asOf time.Time, step func(looked int)) (back int, err error) {
	if err := b.ready(ctx); err != nil {
		return 0, err
	}
	v, err := b.core.GetBucketVersioning(ctx, b.at.Bucket)
	if err != nil {
		return 0, explain("describe", "", err)
	}
	if !v.Enabled() && !v.Suspended() {
		return 0, ErrNoVersions
	}
	ctx, end := context.WithCancel(ctx)
	defer end() // ends the listing where it is left early
	folder := b.at.Folder
	if folder != "" {
		folder += "/"
	}
	all := map[string][]version{} // services differ in the order in which they list versions
	n := 0
	for o := range b.core.ListObjectsIter(ctx, b.at.Bucket, minio.ListObjectsOptions{Prefix: folder, Recursive: true,
		WithVersions: true}) {
		if o.Err != nil {
			return 0, explain("list", "versions", o.Err)
		}
		if n++; n > mostListed {
			return 0, fmt.Errorf("there are more than %d versions", mostListed)
		}
		if backend.Passing(strings.TrimPrefix(o.Key, folder)) {
			continue
		}
		all[o.Key] = append(all[o.Key], version{o.VersionID, o.LastModified, o.ETag, o.IsLatest, o.IsDeleteMarker})
	}
	for i, key := range slices.Sorted(maps.Keys(all)) {
		if err := ctx.Err(); err != nil {
			return back, err
		}
		copied, err := b.bringBack(ctx, key, all[key], asOf)
		if err != nil {
			return back, err
		}
		if copied {
			back++
		}
		if step != nil {
			step(i + 1)
		}
	}
	return back, ctx.Err()
}

// bringBack has a name hold what it held then, and says whether there was need to.
func (b *Bucket) bringBack(ctx context.Context, key string, versions []version, asOf time.Time) (bool, error) {
	then := held(versions, asOf)
	i := slices.IndexFunc(versions, func(v version) bool { return v.latest })
	switch {
	case then == nil || then.marker: // it wasn't there then
		return false, nil
	case then.latest || i >= 0 && !versions[i].marker && (asOf.IsZero() || versions[i].tag == then.tag):
		return false, nil
	}
	_, err := b.core.Client.CopyObject(ctx, minio.CopyDestOptions{Bucket: b.at.Bucket, Object: key},
		minio.CopySrcOptions{Bucket: b.at.Bucket, Object: key, VersionID: then.id})
	if err != nil {
		return false, explain("bring back", key, err)
	}
	return true, nil
}
