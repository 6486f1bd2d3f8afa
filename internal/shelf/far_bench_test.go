package shelf_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/far"
	"twinshelf/internal/testkit"
)

// manyTwins puts a thousand twins of eight machines onto a sealed shelf, as far ones are; one try of its passphrase
// costs next to nothing, so that it is the line that counts.
func manyTwins(b *testing.B, dir string) {
	s := shelftest.In(b, dir, []byte(shelftest.Phrase))
	blocks := shelftest.Content(3, 1)
	for i := range 1000 {
		machine := fmt.Sprint("till ", i%8)
		c := shelftest.Begin(b, s, machine)
		tw := shelftest.TwinOf(b, c, machine, blocks, time.Date(2026, 1, 1, 0, i, 0, 0, time.UTC))
		if err := c.Commit(b.Context(), tw); err != nil {
			b.Fatal(err)
		}
	}
	old := time.Now().Add(-24 * time.Hour) // what was put a moment ago may be replaced in the same second
	err := filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chtimes(path, old, old)
	})
	if err != nil {
		b.Fatal(err)
	}
}

// BenchmarkOpenFar opens a far shelf of 1,000 twins over a line of 50 ms there and back, and reads its dates: cold,
// with copies near, and again over the connection that is there.
func BenchmarkOpenFar(b *testing.B) {
	dir := filepath.Join(b.TempDir(), "oak")
	manyTwins(b, dir)
	ssh := testkit.OpenSSH(b)
	line := testkit.NewLine(b, net.JoinHostPort(ssh.Host, strconv.Itoa(ssh.Port)),
		testkit.LineWeather{Delay: 25 * time.Millisecond})
	ssh.KnownAt(line.Addr)
	b.Run("SFTP", func(b *testing.B) { openFar(b, "sftp://"+ssh.User+"@"+line.Addr+dir, ssh.Person) })
	s3 := testkit.S3(b, false)
	address := s3.Bucket("quay", minio.MakeBucketOptions{})
	toStorage(b, dir, address)
	line = testkit.NewLine(b, strings.TrimPrefix(s3.Endpoint, "http://"),
		testkit.LineWeather{Delay: 25 * time.Millisecond})
	b.Run("S3", func(b *testing.B) { openFar(b, strings.Replace(address, s3.Endpoint, "http://"+line.Addr, 1), "") })
}

// toStorage copies a shelf object by object.
func toStorage(b *testing.B, dir, address string) {
	to, err := far.Open(address, far.Means{})
	if err != nil {
		b.Fatal(err)
	}
	err = filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		return backend.Put(b.Context(), to, name, content, backend.Options{}, nil)
	})
	if err != nil {
		b.Fatal(err)
	}
}

func phrase() ([]byte, error) { return []byte(shelftest.Phrase), nil }

func openFar(b *testing.B, address, ssh string) {
	cache := b.TempDir()
	for _, how := range []string{"cold", "warm"} {
		b.Run(how, func(b *testing.B) {
			for b.Loop() {
				if how == "cold" {
					if err := os.RemoveAll(cache); err != nil {
						b.Fatal(err)
					}
				}
				m := far.Means{SSH: ssh, Cache: cache}
				back, err := far.Open(address, m)
				if err != nil {
					b.Fatal(err)
				}
				begun := time.Now()
				s, err := shelf.OpenAt(b.Context(), back, phrase)
				if err != nil {
					b.Fatal(err)
				}
				opened := time.Now()
				read(b, s)
				listed := time.Now()
				time.Sleep(3 * time.Second)
				again := time.Now()
				read(b, s)
				b.ReportMetric(opened.Sub(begun).Seconds(), "open-s")
				b.ReportMetric(listed.Sub(begun).Seconds(), "dates-s")
				b.ReportMetric(time.Since(again).Seconds(), "again-s")
				s.Close()
			}
		})
	}
}

func read(b *testing.B, s *shelf.Shelf) {
	twins, problems := s.Twins(b.Context())
	if len(twins) != 1000 || len(problems) > 0 {
		b.Fatal(len(twins), problems)
	}
	shelf.ProofsOf(b.Context(), s, shelf.IDsOf(twins))
	if _, err := s.Pins(b.Context()); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkReadFar reads a disk of 256 blocks in order from a server over a line of 50 ms there and back.
func BenchmarkReadFar(b *testing.B) {
	dir := filepath.Join(b.TempDir(), "oak")
	s := shelftest.In(b, dir, nil)
	blocks := shelftest.Content(256, 3)
	c := shelftest.Begin(b, s, "till")
	if err := c.Commit(b.Context(), shelftest.TwinOf(b, c, "till", blocks, time.Now())); err != nil {
		b.Fatal(err)
	}
	ssh := testkit.OpenSSH(b)
	line := testkit.NewLine(b, net.JoinHostPort(ssh.Host, strconv.Itoa(ssh.Port)),
		testkit.LineWeather{Delay: 25 * time.Millisecond})
	ssh.KnownAt(line.Addr)
	back, err := far.Open("sftp://"+ssh.User+"@"+line.Addr+dir, far.Means{SSH: ssh.Person, Cache: b.TempDir()})
	if err != nil {
		b.Fatal(err)
	}
	s, err = shelf.OpenAt(b.Context(), back, nil)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	twins, _ := s.Twins(b.Context())
	p := make([]byte, shelftest.Block/4)
	for b.Loop() {
		d, err := s.OpenDisk(b.Context(), twins[0], 0)
		if err != nil {
			b.Fatal(err)
		}
		for off := int64(0); off < d.Size(); off += int64(len(p)) {
			if _, err := d.ReadAt(p, off); err != nil {
				b.Fatal(err)
			}
		}
		b.SetBytes(d.Size())
	}
}
