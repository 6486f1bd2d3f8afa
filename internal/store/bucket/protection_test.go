package bucket

import (
	"errors"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/lifecycle"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/testkit"
)

// locking makes a bucket that locks what is put for a day.
func locking(t *testing.T, s *testkit.S3Server, name string, mode minio.RetentionMode) string {
	t.Helper()
	address := s.Bucket(name, minio.MakeBucketOptions{ObjectLocking: true})
	unit, n := minio.Days, uint(1)
	if err := s.Owner.SetBucketObjectLockConfig(t.Context(), name, &mode, &n, &unit); err != nil {
		t.Fatal(err)
	}
	return address
}

// TestProtection: what protects is tried out and said; what doesn't isn't called safe.
func TestProtection(t *testing.T) {
	s := testkit.S3(t, false)
	versions := s.Bucket("versions", minio.MakeBucketOptions{})
	if err := s.Owner.EnableVersioning(t.Context(), "versions"); err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]backend.Protection{
		s.Bucket("plain", minio.MakeBucketOptions{}): {Says: "whoever has this key can delete everything"},
		versions: {Says: "may delete that too"},
		locking(t, s, "locked", minio.Compliance): {Safe: true, For: day, Says: "can't be deleted for 1 day, by " +
			"nobody"},
		locking(t, s, "governed", minio.Governance): {Says: "may delete that too"}, // its owner may
	} {
		for range 2 { // the second one finds what the first one couldn't delete
			p, err := opened(t, address).Protection(t.Context())
			if err != nil || p.Safe != want.Safe || p.For != want.For || !strings.Contains(p.Says, want.Says) {
				t.Errorf("%s: %+v, %v", address, p, err)
			}
		}
	}
}

// TestProtectionUnsure: a service that couldn't take a request for want of time hasn't refused it: nothing is called
// safe then, and a rule that couldn't be asked for isn't taken for none.
func TestProtectionUnsure(t *testing.T) {
	s := testkit.S3(t, false)
	address := locking(t, s, "locked", minio.Compliance)
	to, err := url.Parse(s.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	forward := httputil.NewSingleHostReverseProxy(to)
	host := to.Host
	busy := func(is func(r *http.Request) bool) string {
		proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if is(r) {
				http.Error(w, "<Error><Code>InternalError</Code></Error>", http.StatusInternalServerError)
				return
			}
			forward.ServeHTTP(w, r)
		}))
		t.Cleanup(proxy.Close)
		return strings.Replace(address, "http://"+host, proxy.URL, 1)
	}
	// The signature covers the name of the host; this server doesn't mind another one.
	at := busy(func(r *http.Request) bool { return r.Method == http.MethodDelete })
	if p, err := opened(t, at).Protection(t.Context()); err == nil || p.Safe {
		t.Errorf("deleting failed for another reason: %+v, %v", p, err)
	}
	at = busy(func(r *http.Request) bool { return r.URL.Query().Has("lifecycle") })
	p, err := opened(t, at).Protection(t.Context())
	if err != nil || !strings.Contains(strings.Join(p.Warnings, ""), "whether a rule deletes by itself") {
		t.Errorf("the rules couldn't be asked for: %+v, %v", p, err)
	}
}

// TestRulesThatDelete: rules of a bucket are read as they concern the folder.
func TestRulesThatDelete(t *testing.T) {
	rule := func(prefix, status string, expires, keeps int) lifecycle.Rule {
		return lifecycle.Rule{Status: status, RuleFilter: lifecycle.Filter{Prefix: prefix},
			Expiration: lifecycle.Expiration{Days: lifecycle.ExpirationDays(expires)},
			NoncurrentVersionExpiration: lifecycle.NoncurrentVersionExpiration{
				NoncurrentDays: lifecycle.ExpirationDays(keeps)}}
	}
	for _, c := range []struct {
		rules          []lifecycle.Rule
		deletes, keeps time.Duration
	}{
		{nil, 0, 0},
		{[]lifecycle.Rule{rule("", "Enabled", 40, 30)}, 40 * day, 30 * day},
		{[]lifecycle.Rule{rule("", "Disabled", 40, 30)}, 0, 0},
		{[]lifecycle.Rule{rule("elm/", "Enabled", 40, 30)}, 0, 0},
		{[]lifecycle.Rule{rule("oak/packs/", "Enabled", 40, 0)}, 40 * day, 0},
		{[]lifecycle.Rule{rule("o", "Enabled", 40, 0), rule("", "Enabled", 7, 90)}, 7 * day, 90 * day},
	} {
		var g guards
		g.take(&lifecycle.Configuration{Rules: c.rules}, "oak")
		if g.deletes != c.deletes || g.keeps != c.keeps {
			t.Errorf("%+v: deletes after %v, keeps for %v", c.rules, g.deletes, g.keeps)
		}
		if warned := strings.Contains(strings.Join(g.warnings(), ""), "a rule of the bucket "+
			"deletes"); warned != (c.deletes > 0) {
			t.Errorf("%+v: warned %v", c.rules, warned)
		}
	}
}

// TestBringBack: what was deleted comes back, once; what is there stays.
func TestBringBack(t *testing.T) {
	s := testkit.S3(t, false)
	address := s.Bucket("quay", minio.MakeBucketOptions{})
	b := opened(t, address)
	if _, err := b.BringBack(t.Context(), time.Now(), nil); !errors.Is(err, ErrNoVersions) {
		t.Errorf("without versions: %v", err)
	}
	if err := s.Owner.EnableVersioning(t.Context(), "quay"); err != nil {
		t.Fatal(err)
	}
	names := []string{"head", "packs/1", "twins/a/1"}
	for _, n := range append(names, "packs/2") {
		if err := backend.Put(t.Context(), b, n, []byte("then "+n), backend.Options{}, nil); err != nil {
			t.Fatal(err)
		}
	}
	passing := []string{"locks/1.lock", "tmp/half", "unfinished/kiosk.note"}
	for _, n := range passing {
		if err := backend.Put(t.Context(), b, n, []byte("{}"), backend.Options{}, nil); err != nil {
			t.Fatal(err)
		}
	}
	for _, n := range append(passing, names...) {
		if err := b.Delete(t.Context(), n); err != nil {
			t.Fatal(err)
		}
	}
	for _, want := range []int{3, 0} {
		if n, err := b.BringBack(t.Context(), time.Time{}, nil); n != want || err != nil {
			t.Errorf("%d came back, not %d: %v", n, want, err)
		}
	}
	for _, n := range passing {
		if _, err := b.Stat(t.Context(), n); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s, which only passes by, came back: %v", n, err)
		}
	}
	for _, n := range append(names, "packs/2") {
		if got, err := backend.Get(t.Context(), b, n, 100); err != nil || string(got) != "then "+n {
			t.Errorf("%s: %q, %v", n, got, err)
		}
	}
}

// TestHeld: what a name held at a time, by when its versions were put.
func TestHeld(t *testing.T) {
	at := func(minute int) time.Time { return time.Date(2026, 11, 30, 12, minute, 0, 0, time.UTC) }
	for what, c := range map[string]struct {
		versions      []version
		then, deleted string
	}{
		"replaced": {[]version{{id: "2", when: at(20), latest: true}, {id: "1", when: at(1)}}, "1", "2"},
		"deleted":  {[]version{{id: "m", when: at(20), latest: true, marker: true}, {id: "1", when: at(1)}}, "1", "1"},
		"before":   {[]version{{id: "m", when: at(5), latest: true, marker: true}, {id: "1", when: at(1)}}, "m", "1"},
		"since":    {[]version{{id: "1", when: at(20), latest: true}}, "", "1"},
		"same":     {[]version{{id: "1", when: at(1), latest: true}}, "1", "1"},
		"twice": {[]version{{id: "1", when: at(1)}, {id: "3", when: at(30), latest: true}, {id: "2", when: at(8)}}, "2",
			"3"},
		"rubbish, then deleted": {[]version{{id: "m", when: at(30), latest: true, marker: true}, {id: "2",
			when: at(20)},
			{id: "1", when: at(1)}}, "1", "2"},
	} {
		for asOf, want := range map[time.Time]string{at(10): c.then, {}: c.deleted} {
			got := ""
			if v := held(c.versions, asOf); v != nil {
				got = v.id
			}
			if got != want {
				t.Errorf("%s, as of %v: %q, not %q", what, asOf, got, want)
			}
		}
	}
}

// TestRetain: what is locked can't be deleted for good, and isn't locked for less afterwards.
func TestRetain(t *testing.T) {
	s := testkit.S3(t, false)
	b := opened(t, s.Bucket("quay", minio.MakeBucketOptions{ObjectLocking: true}))
	if err := backend.Put(t.Context(), b, "packs/1", []byte("x"), backend.Options{}, nil); err != nil {
		t.Fatal(err)
	}
	until := time.Now().Add(48 * time.Hour)
	for _, u := range []time.Time{until, until.Add(-time.Hour), until} {
		if err := b.Retain(t.Context(), "packs/1", u); err != nil {
			t.Fatal(err)
		}
	}
	st, err := s.Owner.StatObject(t.Context(), "quay", "oak/packs/1", minio.StatObjectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	now, err := time.Parse(time.RFC3339, st.Metadata.Get("X-Amz-Object-Lock-Retain-Until-Date"))
	if err != nil || now.Before(until.Add(-time.Minute)) {
		t.Errorf("locked until %v, %v", now, err)
	}
	if err := s.Owner.RemoveObject(t.Context(), "quay", "oak/packs/1",
		minio.RemoveObjectOptions{VersionID: st.VersionID,
			GovernanceBypass: true}); err == nil {
		t.Error("it was deleted for good")
	}
}
