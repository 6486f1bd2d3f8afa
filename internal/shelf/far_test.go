package shelf_test

import (
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/store/pace"
	"twinshelf/internal/testkit"
)

// elsewhere is a place far away, over a line of the test.
type elsewhere struct {
	address string
	means   far.Means
	line    *testkit.Line
}

// onServer is a folder on a real server, inStorage one in object storage.
func onServer(t *testing.T) elsewhere {
	ssh := testkit.OpenSSH(t)
	line := testkit.NewLine(t, net.JoinHostPort(ssh.Host, strconv.Itoa(ssh.Port)), testkit.LineWeather{})
	ssh.KnownAt(line.Addr)
	return elsewhere{"sftp://" + ssh.User + "@" + line.Addr + t.TempDir(), far.Means{SSH: ssh.Person,
		Cache: t.TempDir()},
		line}
}

func inStorage(t *testing.T) elsewhere {
	s3 := testkit.S3(t, false)
	address := s3.Bucket("quay", minio.MakeBucketOptions{})
	line := testkit.NewLine(t, strings.TrimPrefix(s3.Endpoint, "http://"), testkit.LineWeather{})
	return elsewhere{strings.Replace(address, s3.Endpoint, "http://"+line.Addr, 1), far.Means{Cache: t.TempDir()}, line}
}

// open opens the shelf there, or makes it.
func (e elsewhere) open(t *testing.T) *shelf.Shelf {
	t.Helper()
	b, err := far.Open(e.address, e.means)
	if err != nil {
		t.Fatal(err)
	}
	return shelftest.At(t, b)
}

// committed captures a twin of a machine of its own.
func committed(t *testing.T, s *shelf.Shelf, machine string, blocks [][]byte) *shelf.Twin {
	t.Helper()
	c := shelftest.Begin(t, s, machine)
	tw := shelftest.TwinOf(t, c, machine, blocks, time.Now())
	if err := c.Commit(t.Context(), tw); err != nil {
		t.Error(err)
	}
	return tw
}

// TestBadLines: over a line that is cut again and again captures arrive whole and read back; over one that changes
// bytes nothing wrong is ever given, and afterwards all is there.
func TestBadLines(t *testing.T) {
	for name, place := range map[string]func(*testing.T) elsewhere{"SFTP": onServer, "S3": inStorage} {
		t.Run(name, func(t *testing.T) {
			e := place(t)
			s := e.open(t)
			s.LimitPacks(1 << 20)
			e.line.Set(testkit.LineWeather{Delay: time.Millisecond, CutEvery: 200_000})
			twins := map[*shelf.Twin][][]byte{}
			for i := range 4 {
				blocks := shelftest.Content(3, uint64(i+1))
				twins[shelftest.Commit(t, s, fmt.Sprint("till ", i), blocks)] = blocks
			}
			for tw, blocks := range twins {
				shelftest.Holds(t, s, tw, blocks)
			}
			e.line.Set(testkit.LineWeather{FlipEvery: 300_000})
			wrong := 0
			for _, blocks := range twins {
				for _, b := range blocks {
					got, err := s.Block(t.Context(), s.NameOf(b), nil)
					if err == nil && string(got) != string(b) {
						wrong++
					}
				}
			}
			if wrong > 0 {
				t.Errorf("%d blocks were wrong", wrong)
			}
			e.line.Set(testkit.LineWeather{})
			again := e.open(t)
			list, problems := again.Twins(t.Context())
			if len(list) != len(twins) || len(problems) > 0 {
				t.Errorf("%d twins, %v", len(list), problems)
			}
			for tw, blocks := range twins {
				shelftest.Holds(t, again, tw, blocks)
			}
		})
	}
}

// TestTwentyWriters: twenty machines capture into one bucket at once; all get through, and all is there.
func TestTwentyWriters(t *testing.T) {
	e := inStorage(t)
	e.open(t)
	const writers = 20
	var all sync.WaitGroup
	twins := make([]*shelf.Twin, writers)
	for i := range writers {
		s := e.open(t)
		all.Go(func() {
			// some of it is on all of them
			blocks := append(shelftest.Content(2, 1), shelftest.Content(2, uint64(100+i))...)
			twins[i] = committed(t, s, fmt.Sprint("till ", i), blocks)
		})
	}
	all.Wait()
	s := e.open(t)
	list, problems := s.Twins(t.Context())
	if len(list) != writers || len(problems) > 0 {
		t.Errorf("%d twins, %v", len(list), problems)
	}
	for i, tw := range twins {
		shelftest.Holds(t, s, tw, append(shelftest.Content(2, 1), shelftest.Content(2, uint64(100+i))...))
	}
	if h, err := s.Holders(t.Context()); len(h) > 0 || err != nil {
		t.Errorf("locks are left: %v, %v", h, err)
	}
}

// TestSpentLine: once a month's allowance has gone over the line, work ends at once and says so; with a larger one it
// goes on, and nothing that was there is lost.
func TestSpentLine(t *testing.T) {
	for name, place := range map[string]func(*testing.T) elsewhere{"SFTP": onServer, "S3": inStorage} {
		t.Run(name, func(t *testing.T) {
			e := place(t)
			blocks := shelftest.Content(40, 9)
			first := committed(t, e.open(t), "Kiosk", blocks[:4])
			e.means.Pace, e.means.Count = pace.Pace{Month: 1 << 20}, filepath.Join(t.TempDir(), "elm.json")
			begun := time.Now()
			s := e.open(t)
			c, err := s.Begin(t.Context(), "Purser")
			if err == nil {
				tw := shelftest.Describe(blocks, "Purser", begun, func(b []byte) store.Name {
					n, _, bad := c.Put(t.Context(), b)
					err = errors.Join(err, bad)
					return n
				})
				err = errors.Join(err, c.Commit(t.Context(), tw))
			}
			var spent *pace.SpentError
			if !errors.As(err, &spent) {
				t.Errorf("the capture ended with %v", err)
			}
			if took := time.Since(begun); took > 30*time.Second {
				t.Errorf("it took %v to give up", took)
			}
			e.means.Pace.Month = 1 << 30
			s = e.open(t)
			committed(t, s, "Ticket desk", blocks) // the lock of the other one stays for a while
			twins, problems := s.Twins(t.Context())
			if len(twins) != 2 || len(problems) > 0 || twins[0].ID != first.ID && twins[1].ID != first.ID {
				t.Errorf("%d twins, %v", len(twins), problems)
			}
		})
	}
}
