package shelf

import (
	"errors"
	"strings"
	"testing"
	"time"
)

func TestFind(t *testing.T) {
	now := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	at := func(text string) time.Time {
		tm, err := time.Parse("2006-01-02 15:04", text)
		if err != nil {
			t.Fatal(err)
		}
		return tm
	}
	var twins []*Twin
	for _, x := range [][2]string{ // newest first within a machine, as they are listed
		{"Ticket desk", "2026-11-01 18:00"}, {"Ticket desk", "2026-10-30 18:05"}, {"Ticket desk", "2026-10-30 12:00"},
		{"Ticket desk", "2026-10-02 08:00"},
		{"Ticket booth", "2026-10-30 10:00"}, {"Weighbridge", "2026-08-27 10:00"},
	} {
		w := at(x[1])
		twins = append(twins, &Twin{ID: w.Format("20060102T150405Z") + "-abc123", Machine: x[0], Taken: w})
	}
	for ref, want := range map[string]string{
		"Ticket desk": "2026-11-01 18:00", "ticket DESK": "2026-11-01 18:00", "weigh": "2026-08-27 10:00",
		"Ticket d":              "2026-11-01 18:00",
		"Ticket desk yesterday": "2026-11-01 18:00", "ticket desk newest": "2026-11-01 18:00",
		"Ticket desk 2026-10-02":       "2026-10-02 08:00",
		"Ticket desk 2026-10-30 12:00": "2026-10-30 12:00", "20261002": "2026-10-02 08:00",
		"20261030T180500Z-abc123": "2026-10-30 18:05", "weigh 2026-08-27": "2026-08-27 10:00",
	} {
		got, _, err := choose(twins, ref, now)
		if err != nil || !got.Taken.Equal(at(want)) {
			t.Errorf("%q: %v %v", ref, got, err)
		}
	}
	for ref, says := range map[string]string{
		"Ticket": "Ticket desk or Ticket booth", "Ticket desk 2026-10-30": "2026-10-30 18:05",
		"20261030":               "Ticket booth of 2026-10-30 10:00",
		"Ticket desk 2026-09-09": "has none of 2026-09-09", "Nobody": "nothing is called", "": "nothing is called",
		"Ticket desk today": "has none of 2026-11-02",
	} {
		if got, _, err := choose(twins, ref, now); !errors.Is(err, ErrNoTwin) || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v %v", ref, got, err)
		}
	}
}
