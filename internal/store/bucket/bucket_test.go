package bucket

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
	"twinshelf/internal/testkit"
)

// opened is the backend at an address.
func opened(t *testing.T, address string) *Bucket {
	t.Helper()
	a, err := Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	b, err := Open(a, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

func TestBucketConforms(t *testing.T) {
	s := testkit.S3(t, false)
	for _, versions := range []bool{false, true} {
		t.Run(fmt.Sprintf("versions=%v", versions), func(t *testing.T) {
			n := 0
			backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
				n++
				name := fmt.Sprintf("quay-%v-%d", versions, n)
				address := s.Bucket(name, minio.MakeBucketOptions{})
				if versions {
					if err := s.Owner.EnableVersioning(t.Context(), name); err != nil {
						t.Fatal(err)
					}
				}
				return func() backend.Backend { return opened(t, address) }
			})
		})
	}
}

// TestBadLineConforms: over a line that is cut again and again, and long, a bucket keeps all its promises.
func TestBadLineConforms(t *testing.T) {
	s := testkit.S3(t, false)
	n := 0
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		n++
		address := s.Bucket(fmt.Sprint("quay-", n), minio.MakeBucketOptions{})
		line := testkit.NewLine(t, strings.TrimPrefix(s.Endpoint, "http://"),
			testkit.LineWeather{Delay: time.Millisecond, CutEvery: 1_000_000})
		return func() backend.Backend {
			return opened(t, strings.Replace(address, s.Endpoint, "http://"+line.Addr, 1))
		}
	})
}

// TestConformsBetweenNetworks: a service in another network keeps all its promises, over a cable and the kernel's own
// ways of sending.
func TestConformsBetweenNetworks(t *testing.T) {
	if !testkit.Apart(t) {
		return
	}
	cable, host := testkit.Neighbour(t)
	var s *testkit.S3Server
	cable.There(func() error {
		s = testkit.S3On(t, host, false)
		return nil
	})
	n := 0
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		n++
		address := s.Bucket(fmt.Sprint("quay-", n), minio.MakeBucketOptions{})
		return func() backend.Backend { return opened(t, address) }
	})
}

// TestAddress: addresses are read and written alike; secrets and what isn't one are refused, and never repeated.
func TestAddress(t *testing.T) {
	for text, want := range map[string]Address{
		"s3://quay/oak":  {Bucket: "quay", Folder: "oak"},
		"s3://quay":      {Bucket: "quay"},
		"s3://quay/a/b/": {Bucket: "quay", Folder: "a/b"},
		"s3://quay/oak?endpoint=https://store.ferry.example:9000&region=north&style=path": {Bucket: "quay",
			Folder:   "oak",
			Endpoint: "https://store.ferry.example:9000", Region: "north", Style: "path"},
		"s3://quay/oak?profile=ferry&ca=/etc/ferry/ca.pem&lag=30s": {Bucket: "quay", Folder: "oak", Profile: "ferry",
			CA: "/etc/ferry/ca.pem", Lag: 30 * time.Second},
	} {
		a, err := Parse(text)
		if err != nil || a != want {
			t.Errorf("%s: %+v %v", text, a, err)
		}
		if again, err := Parse(a.String()); err != nil || again != a {
			t.Errorf("%s became %s: %v", text, a, err)
		}
	}
	for text, says := range map[string]string{
		"s3://tam:lowtide@quay/oak":                        "keys don't belong there",
		"s3://quay/oak?secret=lowtide":                     "keys don't belong into it",
		"s3://quay/oak?lowtide=1":                          "keys don't belong into it",
		"s3://quay/oak?endpoint=https://a:lowtide@b":       "endpoint in the address",
		"s3://quay/oak?endpoint=https://b/x?k=lowtide":     "endpoint in the address",
		"s3://quay/oak?style=loose":                        "path or host",
		"s3://quay/oak?region=a&region=b":                  "more than once",
		"s3://quay/oak?lag=-1s":                            "lag",
		"s3://quay/oak?ca=ca.pem":                          "whole path",
		"s3:///oak":                                        "no bucket",
		"s3://q/oak":                                       "no bucket",
		"s3://quay/../oak":                                 "can't be a folder",
		"s3://quay/o\nk":                                   "can't be shown",
		"https://quay/oak":                                 "s3://bucket",
		"s3://quay/oak#lowtide":                            "keys don't belong there",
		"s3://quay/" + strings.Repeat("o", longestAddress): "too long",
	} {
		_, err := Parse(text)
		if err == nil || !strings.Contains(err.Error(), says) || strings.Contains(err.Error(), "lowtide") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("s3://quay/oak?endpoint=https://store.ferry.example:9000&region=north&style=path&lag=30s&ca=/a%20b")
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Parse(text)
		if err != nil {
			return
		}
		if again, err := Parse(a.String()); err != nil || again != a {
			t.Errorf("%q is %+v, and %q is %+v: %v", text, a, a.String(), again, err)
		}
	})
}

// TestLarge: what is larger than a part goes up in several, is only there when it is committed, and reads back right;
// of two who put it where none may be there one is refused.
func TestLarge(t *testing.T) {
	s := testkit.S3(t, false)
	b := opened(t, s.Bucket("quay", minio.MakeBucketOptions{}))
	content := make([]byte, 2*partSize+12345)
	chaos := rand.NewChaCha8([32]byte{7})
	_, _ = chaos.Read(content)
	var uploads []backend.Upload
	for range 2 {
		u, err := b.Create(t.Context(), "packs/1.pack", backend.Options{Owner: "a", IfAbsent: true})
		if err != nil {
			t.Fatal(err)
		}
		for rest := content; len(rest) > 0; rest = rest[min(len(rest), 100_000):] {
			if _, err := u.Write(rest[:min(len(rest), 100_000)]); err != nil {
				t.Fatal(err)
			}
		}
		if err := u.Sync(t.Context()); err != nil {
			t.Fatal(err)
		}
		uploads = append(uploads, u)
	}
	if _, err := b.Stat(t.Context(), "packs/1.pack"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("before the commit: %v", err)
	}
	if err := uploads[0].Commit(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := uploads[1].Commit(t.Context()); !errors.Is(err, fs.ErrExist) {
		t.Errorf("over another one: %v", err)
	}
	if err := uploads[1].Abort(); err != nil {
		t.Error(err)
	}
	got, err := backend.Get(t.Context(), b, "packs/1.pack", int64(len(content)))
	if err != nil || !bytes.Equal(got, content) {
		t.Errorf("%d bytes came back (%v), or others", len(got), err)
	}
	left := 0
	for range s.Owner.ListIncompleteUploads(t.Context(), "quay", "", true) {
		left++
	}
	if names, err := b.List(t.Context(), backend.TempFolder); err != nil || len(names)+left > 0 {
		t.Errorf("%q and %d uploads are left behind: %v", names, left, err)
	}
}

// TestRefusals: what the service refuses is said in words that tell what to do, and nothing of the secret.
func TestRefusals(t *testing.T) {
	s := testkit.S3(t, false)
	address := s.Bucket("quay", minio.MakeBucketOptions{})
	list := func(address string) error {
		_, err := opened(t, address).List(t.Context(), "")
		return err
	}
	check := func(err error, says string, is error) {
		t.Helper()
		var e *Error
		if !errors.As(err, &e) || !strings.Contains(err.Error(), says) || is != nil && !errors.Is(err, is) ||
			strings.Contains(err.Error(), testkit.S3Secret) {
			t.Errorf("not %q: %v", says, err)
		}
	}
	if err := list(address); err != nil {
		t.Fatal(err)
	}
	check(list(strings.Replace(address, "quay", "jetty", 1)), "no such bucket", nil)
	t.Setenv("AWS_SECRET_ACCESS_KEY", "low-water")
	check(list(address), "doesn't take these credentials", fs.ErrPermission)
	t.Setenv("AWS_ACCESS_KEY_ID", "")
	t.Setenv("HOME", t.TempDir())
	t.Setenv("AWS_EC2_METADATA_DISABLED", "true")
	check(list(address+"&profile=none"), "no credentials", ErrNoKeys)
	t.Setenv("AWS_ACCESS_KEY_ID", testkit.S3Key)
	t.Setenv("AWS_SECRET_ACCESS_KEY", testkit.S3Secret)
	s.Stop()
	check(list(address), "can't be reached", nil)
}

// TestGone: an object that is replaced while it is read, in a bucket that keeps no versions, isn't there any more; it
// never gives bytes of the other one.
func TestGone(t *testing.T) {
	s := testkit.S3(t, false)
	b := opened(t, s.Bucket("quay", minio.MakeBucketOptions{}))
	put := func(c byte) {
		t.Helper()
		content := bytes.Repeat([]byte{c}, 3*firstRead)
		if err := backend.Put(t.Context(), b, "packs/1", content, backend.Options{Owner: "a"}, nil); err != nil {
			t.Fatal(err)
		}
	}
	put('a')
	o, err := b.Open(t.Context(), "packs/1")
	if err != nil {
		t.Fatal(err)
	}
	put('b')
	p := make([]byte, 2*firstRead)
	if n, err := o.ReadAt(t.Context(), p, firstRead/2); !errors.Is(err, fs.ErrNotExist) || bytes.IndexByte(p[:n],
		'b') >= 0 {
		t.Errorf("%d bytes, %v", n, err)
	}
}

// TestCutOff: a server that goes away and comes back between and within requests loses nothing.
func TestCutOff(t *testing.T) {
	s := testkit.S3(t, false)
	b := opened(t, s.Bucket("quay", minio.MakeBucketOptions{}))
	ctx, end := context.WithCancel(t.Context())
	var restless sync.WaitGroup
	restless.Go(func() {
		// It stays for longer each time: a loaded machine takes its time over a part.
		for stays := 300 * time.Millisecond; ctx.Err() == nil; stays += stays / 4 {
			time.Sleep(stays)
			s.Stop()
			time.Sleep(100 * time.Millisecond)
			s.Start()
		}
	})
	content := bytes.Repeat([]byte("oak and elm "), 3_000_000)
	for i := range 4 {
		name := fmt.Sprint("packs/", i)
		o := backend.Options{Owner: "a", IfAbsent: true}
		if err := backend.Put(t.Context(), b, name, content, o, nil); err != nil {
			t.Errorf("put %s: %v", name, err)
			continue
		}
		if got, err := backend.Get(t.Context(), b, name, int64(len(content))); err != nil || !bytes.Equal(got,
			content) {
			t.Errorf("get %s: %d bytes, %v", name, len(got), err)
		}
	}
	end()
	restless.Wait()
}

// TestCertificates: a certificate of an authority of one's own is trusted where the address names that, and nowhere
// else; one that isn't good any more is refused.
func TestCertificates(t *testing.T) {
	list := func(address string) error {
		_, err := opened(t, address).List(t.Context(), "")
		return err
	}
	for until, good := range map[time.Duration]bool{time.Hour: true, -time.Hour: false} {
		ca, cert, key := testkit.Certificates(t, time.Now().Add(until))
		s := testkit.S3(t, true, "--cert", cert, "--key", key)
		address := s.Bucket("quay", minio.MakeBucketOptions{})
		err := list(address + "&ca=" + ca)
		if (err == nil) != good || err != nil && !strings.Contains(err.Error(), "isn't trusted") {
			t.Errorf("good until %v from now: %v", until, err)
		}
		if err := list(address); err == nil || !strings.Contains(err.Error(), "isn't trusted") {
			t.Errorf("without the authority: %v", err)
		}
		s.Stop()
	}
	a, err := Parse("s3://quay/oak?ca=/nowhere.pem")
	if err == nil {
		_, err = Open(a, nil)
	}
	if err == nil || !strings.Contains(err.Error(), "/nowhere.pem") {
		t.Errorf("no file: %v", err)
	}
}

// TestConcerns: a bucket that anybody may read is said to be, where the shelf isn't sealed; so is a line that isn't
// encrypted, unless it stays on this machine.
func TestConcerns(t *testing.T) {
	s := testkit.S3(t, false)
	b := opened(t, s.Bucket("quay", minio.MakeBucketOptions{}))
	if err := backend.Put(t.Context(), b, "head", []byte("x"), backend.Options{}, nil); err != nil {
		t.Fatal(err)
	}
	if c := b.Concerns(t.Context(), false); len(c) > 0 {
		t.Errorf("a bucket of one's own: %q", c)
	}
	const everybody = `{"Version":"2012-10-17","Statement":[{"Effect":"Allow","Principal":"*",` +
		`"Action":"s3:GetObject","Resource":"arn:aws:s3:::quay/*"}]}`
	if err := s.Owner.SetBucketPolicy(t.Context(), "quay", everybody); err != nil {
		t.Fatal(err)
	}
	if c := b.Concerns(t.Context(), false); len(c) != 1 || !strings.Contains(c[0], "anybody can read") {
		t.Errorf("a bucket of everybody: %q", c)
	}
	if c := b.Concerns(t.Context(), true); len(c) > 0 {
		t.Errorf("what is sealed: %q", c)
	}
	far := opened(t, "s3://quay/oak?endpoint=http://192.0.2.7:9") // an address for documentation (RFC 5737)
	ctx, end := context.WithTimeout(t.Context(), time.Second)
	defer end()
	if c := far.Concerns(ctx, true); len(c) != 1 || !strings.Contains(c[0], "isn't encrypted") {
		t.Errorf("a line in the open: %q", c)
	}
}

// TestSilentService: a service that falls silent in the middle of an answer is given up, and asked again.
func TestSilentService(t *testing.T) {
	s := testkit.S3(t, false)
	address := s.Bucket("quay", minio.MakeBucketOptions{})
	line := testkit.NewLine(t, strings.TrimPrefix(s.Endpoint, "http://"), testkit.LineWeather{Rate: 2_000_000})
	b := opened(t, strings.Replace(address, s.Endpoint, "http://"+line.Addr, 1))
	content := bytes.Repeat([]byte("oak and elm "), 500_000)
	if err := backend.Put(t.Context(), b, "packs/1", content, backend.Options{Owner: "a"}, nil); err != nil {
		t.Fatal(err)
	}
	silence := time.AfterFunc(time.Second, line.Silence)
	defer silence.Stop()
	if got, err := backend.Get(t.Context(), b, "packs/1", int64(len(content))); err != nil || !bytes.Equal(got,
		content) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
}
