package bucket

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/lifecycle"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/units"
)

const day = 24 * time.Hour

// guards are what a bucket is set to do by itself.
type guards struct {
	versions bool
	mode     minio.RetentionMode // of its locks; empty for none
	locked   time.Duration       // for how long what is put is locked
	keeps    time.Duration       // for how long versions are kept; 0 for no end
	deletes  time.Duration       // after how long a rule deletes what is there; 0 for none
	unknown  []string            // what couldn't be asked
}

// guards asks what the bucket is set to do.
func (b *Bucket) guards(ctx context.Context) (g guards, err error) {
	v, err := b.core.GetBucketVersioning(ctx, b.at.Bucket)
	if g.asked(err, "whether it keeps versions") {
		g.versions = v.Enabled()
	}
	_, mode, n, unit, err := b.core.GetObjectLockConfig(ctx, b.at.Bucket)
	if g.asked(err, "whether it locks objects") && mode != nil && n != nil && unit != nil {
		g.mode, g.locked = *mode, time.Duration(*n)*day
		if *unit == minio.Years {
			g.locked *= 365
		}
	}
	rules, err := b.core.GetBucketLifecycle(ctx, b.at.Bucket)
	if g.asked(err, "whether a rule deletes by itself") && rules != nil {
		g.take(rules, b.at.Folder)
	}
	return g, ctx.Err()
}

// asked says whether the service answered what it is set to; otherwise that stays unknown. That it has no such thing is
// an answer.
func (g *guards) asked(err error, what string) bool {
	if err == nil {
		return true
	}
	if !is(err, "NotImplemented", "ObjectLockConfigurationNotFoundError", "NoSuchObjectLockConfiguration",
		"NoSuchLifecycleConfiguration") {
		g.unknown = append(g.unknown, what)
	}
	return false
}

// take takes those of the bucket's rules that concern a folder.
func (g *guards) take(rules *lifecycle.Configuration, folder string) {
	sooner := func(now, days time.Duration) time.Duration {
		if days > 0 && (now == 0 || days < now) {
			return days
		}
		return now
	}
	for _, r := range rules.Rules {
		prefix := r.RuleFilter.Prefix
		if prefix == "" {
			prefix = r.Prefix
		}
		concerns := strings.HasPrefix(folder+"/", prefix) || strings.HasPrefix(prefix, folder+"/") || folder == ""
		if r.Status != "Enabled" || !concerns {
			continue
		}
		g.deletes = sooner(g.deletes, time.Duration(r.Expiration.Days)*day)
		if !r.Expiration.Date.IsZero() {
			g.deletes = sooner(g.deletes, max(day, time.Until(r.Expiration.Date.Time)))
		}
		g.keeps = sooner(g.keeps, time.Duration(r.NoncurrentVersionExpiration.NoncurrentDays)*day)
	}
}

// Protection tries to destroy an object of its own.
func (b *Bucket) Protection(ctx context.Context) (p backend.Protection, err error) {
	if err := b.ready(ctx); err != nil {
		return p, err
	}
	g, err := b.guards(ctx)
	if err != nil {
		return p, err
	}
	p.Warnings = g.warnings()
	fate, err := b.tryOut(ctx)
	if err != nil {
		return p, err
	}
	switch {
	case fate.destroyed && g.versions:
		p.Says = "whoever has this key can delete everything: the bucket keeps what is deleted, but this key may " +
			"delete that too"
	case fate.destroyed:
		p.Says = "whoever has this key can delete everything"
	case fate.replaced && !g.versions && g.mode == "":
		p.Says = "whoever has this key can destroy everything: it may not delete, but put something else in its place"
	case g.mode == minio.Compliance:
		p.Safe, p.For = true, g.locked
		p.Says = fmt.Sprintf("what is put in this bucket can't be deleted for %s, by nobody (object "+
			"lock)", days(g.locked))
	case g.mode != "":
		p.Safe, p.For = true, g.locked
		p.Says = fmt.Sprintf("what is put in this bucket can't be deleted for %s by this key (object lock; its owner "+
			"can)",
			days(g.locked))
	case g.versions && g.keeps > 0:
		p.Safe, p.For = true, g.keeps
		p.Says = fmt.Sprintf("this bucket keeps what is deleted or replaced for %s; this key may not delete it for "+
			"good",
			days(g.keeps))
	case g.versions:
		p.Safe = true
		p.Says = "this bucket keeps what is deleted or replaced; this key may not delete it for good"
	default:
		p.Safe = true
		p.Says = "this key may neither delete nor replace what is there"
	}
	if p.Safe && (g.versions || g.mode != "") {
		p.Warnings = append(p.Warnings, "whether this key may change what the bucket is set to (versions, locks, "+
			"rules) isn't tried")
	}
	return p, nil
}

func days(d time.Duration) string { return units.Plural(int((d+day/2)/day), "day") }

// warnings say what endangers a shelf in the bucket whoever has its key.
func (g guards) warnings() (out []string) {
	if g.deletes > 0 {
		out = append(out, fmt.Sprintf("a rule of the bucket deletes what is there after %s: twins lose their blocks; "+
			"have its owner take it out", days(g.deletes)))
	}
	for _, u := range g.unknown {
		out = append(out, u+" couldn't be asked with these credentials")
	}
	return out
}

// fate is what became of the probe.
type fate struct {
	destroyed bool // one version of it was deleted for good
	replaced  bool // another object was put in its place
}

// tryOut puts the probe, replaces it, and tries to delete it for good.
func (b *Bucket) tryOut(ctx context.Context) (f fate, err error) {
	put := func() (minio.UploadInfo, error) {
		text := "This object tries out what protects the shelf. It may be deleted."
		return b.core.PutObject(ctx, b.at.Bucket, b.key(backend.ProbeName), strings.NewReader(text), int64(len(text)),
			"", "", minio.PutObjectOptions{SendContentMd5: true, DisableMultipart: true})
	}
	info, err := put()
	if err == nil {
		_, err = put()
		f.replaced = err == nil
	} else if st, there := b.stat(ctx, backend.ProbeName); there == nil { // put by somebody who might
		info.VersionID = st.VersionID
	} else {
		return f, explain("put", backend.ProbeName, err)
	}
	if err != nil && !refused(err) {
		return f, explain("put", backend.ProbeName, err)
	}
	for _, bypass := range []bool{false, true} {
		err := b.core.RemoveObject(ctx, b.at.Bucket, b.key(backend.ProbeName),
			minio.RemoveObjectOptions{VersionID: info.VersionID, GovernanceBypass: bypass})
		if err == nil {
			f.destroyed = true
			break
		}
		if !refused(err) {
			return f, explain("delete", backend.ProbeName, err)
		}
	}
	if f.destroyed { // what is left of it
		_ = b.remove(ctx, backend.ProbeName)
	}
	return f, nil
}

// refused says whether the service won't do something, ever: one that can't at the moment hasn't refused it.
func refused(err error) bool {
	return answerOf(err).StatusCode == http.StatusForbidden || is(err, "AccessDenied", "ObjectLocked",
		"InvalidRequestObjectLocked")
}

// MayDelete tries out whether what is put may be deleted, once.
func (b *Bucket) MayDelete(ctx context.Context) bool {
	b.deleting.Do(func() {
		b.mayDelete = true
		name := backend.TempFolder + "/" + backend.ProbeName
		if b.putMark(ctx, name, []byte("{}")) == nil {
			b.mayDelete = !refused(b.remove(ctx, name))
		}
	})
	return b.mayDelete
}

// Retain has an object stay at least until a time, also for its owner (compliance).
func (b *Bucket) Retain(ctx context.Context, name string, until time.Time) error {
	if err := b.ready(ctx); err != nil {
		return err
	}
	st, err := b.stat(ctx, name)
	if err != nil {
		return explain("lock", name, err)
	}
	mode, until := minio.Compliance, until.UTC().Truncate(time.Second)
	now, err := time.Parse(time.RFC3339, st.Metadata.Get("X-Amz-Object-Lock-Retain-Until-Date"))
	if err == nil && !now.Before(until) {
		return nil
	}
	err = b.core.PutObjectRetention(ctx, b.at.Bucket, b.key(name), minio.PutObjectRetentionOptions{Mode: &mode,
		RetainUntilDate: &until})
	return explain("lock", name, err)
}
