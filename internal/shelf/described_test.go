package shelf_test

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
)

// TestListedAgain: twins that are listed once more are the same and the caller's own, whatever was done with those from
// before; and a file that was hurt meanwhile is noticed.
func TestListedAgain(t *testing.T) {
	kinds := map[string]func(testing.TB) *shelf.Shelf{"open": shelftest.New, "sealed": shelftest.NewSealed}
	for name, create := range kinds {
		t.Run(name, func(t *testing.T) {
			s := create(t)
			for _, machine := range []string{"Kiosk", "Ticket desk"} {
				shelftest.Commit(t, s, machine, shelftest.Content(4, 9))
			}
			listed := func() []*shelf.Twin {
				t.Helper()
				twins, problems := s.Twins(t.Context())
				if len(twins) != 2 || len(problems) > 0 {
					t.Fatalf("%d twins, %v", len(twins), problems)
				}
				return twins
			}
			want, first := listed(), listed()
			first[0].Machine, first[0].Disks[0].Used = "Another", 7
			first[1].Disks[0].Regions[0].Kind = "ext9"
			if got := listed(); !reflect.DeepEqual(got, want) {
				t.Errorf("%+v, want %+v", got, want)
			}
			files, _ := filepath.Glob(filepath.Join(s.Place(), "*", "twins", "*", "*.twin"))
			more, _ := filepath.Glob(filepath.Join(s.Place(), "twins", "*", "*.twin"))
			for _, f := range append(files, more...) {
				if err := os.Truncate(f, 200); err != nil {
					t.Fatal(err)
				}
			}
			if twins, problems := s.Twins(t.Context()); len(twins) > 0 || len(problems) != 2 {
				t.Errorf("hurt: %d twins, %v", len(twins), problems)
			}
		})
	}
}
