package fsys_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// worn fills a mounted volume and deletes most of it again, so that what is left lies everywhere, some of it in many pieces.
func worn(t testing.TB, point string, room int64, seed uint64) {
	t.Helper()
	r := rand.New(rand.NewPCG(9, seed))
	write := func(name string, n int) {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.Uint32() >> 3)
		}
		if err := os.WriteFile(filepath.Join(point, name), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for d := range 20 {
		os.Mkdir(filepath.Join(point, fmt.Sprint("pier", d)), 0o755)
	}
	var names []string
	for left, i := room*8/10, 0; left > 0; i++ {
		n := 1000 + r.IntN(1_500_000)
		if i%3 == 0 {
			n = r.IntN(30_000)
		}
		name := fmt.Sprintf("pier%d/crossing %d", r.IntN(20), i)
		write(name, n)
		names = append(names, name)
		left -= int64(n)
	}
	for i, name := range names {
		if i%10 < 6 || i < len(names)*5/10 && i%10 < 9 {
			os.Remove(filepath.Join(point, name))
		}
	}
	f, err := os.Create(filepath.Join(point, "sparse log"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range int64(12) {
		f.WriteAt(bytes.Repeat([]byte("tide"), 9000), i*3_000_000)
	}
	f.Close()
	for i := range 40 { // one file that grew in turns with others
		f, err := os.OpenFile(filepath.Join(point, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		f.Write(bytes.Repeat([]byte{byte(i)}, 20_000))
		f.Close()
		write(fmt.Sprint("between ", i), 9000)
	}
}

// TestNTFSShrinks makes worn NTFS volumes smaller, down to the least that is possible.
func TestNTFSShrinks(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix", "ntfs-3g", "ntfsinfo")
	testkit.Root(t)
	const m = units.MiB
	for i, args := range [][]string{nil, {"-c", "512"}, {"-c", "65536"}, {"-c", "1024"}} {
		t.Run(fmt.Sprint(args), func(t *testing.T) {
			img := testkit.Image(t, "ntfs.img", 120*m+5*512)
			testkit.Do(t, "mkntfs", append(append([]string{"-q", "-F", "-f", "-p", "2048", "-H", "255", "-S", "63"}, args...), img)...)
			var want map[string][32]byte
			testkit.Mounted(t, []string{"ntfs-3g", img}, func(point string) {
				worn(t, point, 95*m, uint64(i))
				want = sumsOf(t, point)
			})
			c, _ := examine(t, img)
			least, why, err := c.Volume.(fsys.Shrinker).Least()
			if err != nil || least >= 120*m || why == "" {
				t.Fatalf("least %d (%s): %v", least, why, err)
			}
			t.Logf("%d MiB used of 120, least %d MiB: %s", c.Used/m, least/m, why)
			for _, to := range []int64{least, (least + 120*m) / 2 / 512 * 512, 119 * m} {
				path, change := placed(t, img, fsys.Place{Was: 2048 * 512, Start: 2048 * 512, Size: to, Sector: 512})
				if change.Size != to-512 {
					t.Errorf("it became %d of %d", change.Size, to)
				}
				if out, err := testkit.Try("ntfsfix", "-n", path); err != nil {
					t.Fatalf("to %d: %v\n%s", to, err, out)
				}
				if n := field(t, testkit.Do(t, "ntfsinfo", "-m", path), `Volume Size in Clusters: (\d+)`); n != change.Size/c.Info.Unit {
					t.Errorf("%d clusters", n)
				}
				if now, _ := examine(t, path); !now.Maps || now.Info.Size != change.Size {
					t.Errorf("our own reader sees %+v: %s", now.Info, now.Why)
				}
				testkit.Mounted(t, []string{"ntfs-3g", path}, func(point string) {
					sameTree(t, want, point)
					larger(t, point, 1*m)
					os.RemoveAll(filepath.Join(point, "pier3"))
				})
				if now, _ := examine(t, path); !now.Maps {
					t.Errorf("after use our own reader says: %s", now.Why)
				}
				testkit.Do(t, "ntfsfix", "-n", path)
			}
			if _, err := c.Volume.(fsys.Placer).Place(fsys.Place{Size: c.Used / 2 / 512 * 512, Sector: 512}); err == nil {
				t.Error("it becomes smaller than what it holds")
			}
		})
	}
}
