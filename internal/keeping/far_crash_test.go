package keeping

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/testkit"
)

// Variables of the processes that TestTwoWritersKilled kills.
const (
	farPlace   = "TWINSHELF_FAR"
	farSSH     = "TWINSHELF_FAR_SSH"
	farCache   = "TWINSHELF_FAR_CACHE"
	farMachine = "TWINSHELF_FAR_MACHINE"
)

// farShelf opens the shelf far away; where there is none yet it is made.
func farShelf(t testing.TB, address, ssh, cache string) *shelf.Shelf {
	t.Helper()
	b, err := far.Open(address, far.Means{SSH: ssh, Cache: cache})
	if err != nil {
		t.Fatal(err)
	}
	s := shelftest.At(t, b)
	s.LimitPacks(300 << 10)
	return s
}

// TestFarChild is one of the processes that TestTwoWritersKilled kills.
func TestFarChild(t *testing.T) {
	address := os.Getenv(farPlace)
	if address == "" {
		return // only as a child
	}
	seed, err := strconv.ParseUint(os.Getenv("TWINSHELF_SEED"), 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	s := farShelf(t, address, os.Getenv(farSSH), os.Getenv(farCache))
	r, machine := rand.New(rand.NewPCG(seed, 7)), os.Getenv(farMachine)
	say := func(f string, a ...any) { fmt.Printf("\n"+f+"\n", a...) }
	for {
		if err := farRound(t, s, machine, r, say); err != nil && !errors.Is(err, store.ErrBusy) {
			say("error %v", err)
			return
		}
	}
}

// farRound captures a machine, and sometimes drops one of its dates or gives back space. That the other process is in
// the way is no failure.
func farRound(t testing.TB, s *shelf.Shelf, machine string, r *rand.Rand, say func(string, ...any)) error {
	seed := r.Uint64N(6)
	c, err := s.Begin(t.Context(), machine)
	if err != nil {
		return err
	}
	tw := shelftest.TwinOf(t, c, machine, shelftest.Content(12, seed), time.Now())
	if err := c.Commit(t.Context(), tw); err != nil {
		return err
	}
	say("kept %s %d", tw.ID, seed)
	twins, _ := shelf.TwinsOf(t.Context(), s, machine)
	if len(twins) > 3 {
		gone := twins[len(twins)-1]
		say("dropping %s", gone.ID)
		if err := s.Discard(t.Context(), gone, "life"); err != nil {
			return err
		}
	}
	if r.IntN(3) > 0 {
		return nil
	}
	_, err = GiveBack(t.Context(), s, nil)
	return err
}

// TestTwoWritersKilled: two processes write to one shelf on a real server and in real object storage, and each is
// killed at any moment, again and again; whatever either promised is there, and whole.
func TestTwoWritersKilled(t *testing.T) {
	t.Run("SFTP", func(t *testing.T) {
		ssh := testkit.OpenSSH(t)
		ssh.KnownAt(fmt.Sprint(ssh.Host, ":", ssh.Port))
		twoKilled(t, fmt.Sprintf("sftp://%s@%s:%d%s", ssh.User, ssh.Host, ssh.Port, t.TempDir()), ssh.Person)
	})
	t.Run("S3", func(t *testing.T) {
		s3 := testkit.S3(t, false)
		twoKilled(t, s3.Bucket("quay", minio.MakeBucketOptions{}), "")
	})
}

func twoKilled(t *testing.T, address, ssh string) {
	farShelf(t, address, ssh, "")
	machines := []string{"Kiosk", "Weighbridge"}
	caches := []string{t.TempDir(), t.TempDir()}
	said := []promises{{kept: map[string]uint64{}}, {kept: map[string]uint64{}}}
	for seed := range seeds(6) {
		var both sync.WaitGroup
		for i := range machines {
			r := rand.New(rand.NewPCG(uint64(seed), uint64(i)))
			both.Go(func() {
				c := exec.Command(os.Args[0], "-test.run=^TestFarChild$", "-test.v")
				c.Env = append(os.Environ(), farPlace+"="+address, farSSH+"="+ssh, farCache+"="+caches[i],
					farMachine+"="+machines[i], fmt.Sprint("TWINSHELF_SEED=", 2*seed+i))
				hearUntilKilled(t, c, time.Duration(500+r.IntN(2500))*time.Millisecond, &said[i])
			})
		}
		both.Wait()
		s := farShelf(t, address, ssh, "")
		want := map[string]uint64{}
		for i, p := range said {
			if p.err != "" {
				t.Fatalf("seed %d, %s: %s", seed, machines[i], p.err)
			}
			for id, content := range p.kept {
				want[id] = content
			}
		}
		whole(t, s, want, fmt.Sprint("seed ", seed))
		if t.Failed() {
			return
		}
	}
	t.Logf("%d and %d twins are there", len(said[0].kept), len(said[1].kept))
}
