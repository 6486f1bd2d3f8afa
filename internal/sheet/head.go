package sheet

import (
	"strings"
	"time"

	"golang.org/x/text/language"

	"twinshelf/internal/settings"
)

// Head is what papers have at their top: who works here, and when they were made.
type Head struct {
	Shop  settings.Shop
	Logo  *Logo // nil for none
	Dates Dates
	Made  time.Time
}

// Dates is how papers write dates and times. The zero value writes them as ISO 8601 does.
type Dates struct{ day, clock string }

const isoDay, isoClock = "2006-01-02", "15:04"

// DateForms are the ways to write a date that can be chosen, by their names: D is the day, M the month.
var DateForms = []string{"Y-M-D", "D.M.Y", "D/M/Y", "M/D/Y", "D-M-Y", "D Mon Y"}

var dayLayouts = map[string]string{"Y-M-D": isoDay, "D.M.Y": "02.01.2006", "D/M/Y": "02/01/2006",
	"M/D/Y": "01/02/2006", "D-M-Y": "02-01-2006", "D Mon Y": "2 Jan 2006"}

// regions are the ways by region, as the Unicode locale data has them; all others write ISO 8601.
var regions = map[string]string{
	"D.M.Y": "AT CH CZ DE DK EE FI HR IL IS LI LV MK NO PL RO RS RU SI SK TR UA",
	"D/M/Y": "AR AU BE BR CO EG ES FR GB GR IE IN IT MX NG NZ PE PT SG",
	"M/D/Y": "PH US",
	"D-M-Y": "CL NL",
}

// DatesAs writes dates in a form of DateForms. Without one it is as the system is set up: the first of LC_ALL, LC_TIME
// and LANG that says something counts.
func DatesAs(form string, getenv func(string) string) Dates {
	if form != "" {
		return datesOf(form, "")
	}
	for _, name := range []string{"LC_ALL", "LC_TIME", "LANG"} {
		said, _, _ := strings.Cut(getenv(name), ".")
		said, _, _ = strings.Cut(said, "@")
		if said == "" {
			continue
		}
		tag, err := language.Parse(strings.ReplaceAll(said, "_", "-"))
		if err != nil { // "C" and "POSIX" are none
			return Dates{}
		}
		region, sure := tag.Region()
		if sure == language.No {
			return Dates{}
		}
		for form, all := range regions {
			if strings.Contains(all, region.String()) {
				return datesOf(form, region.String())
			}
		}
		return Dates{}
	}
	return Dates{}
}

func datesOf(form, region string) Dates {
	d := Dates{dayLayouts[form], isoClock}
	if region == "US" || region == "PH" {
		d.clock = "3:04 PM"
	}
	return d
}

func (d Dates) layout() string {
	if d.day == "" {
		return isoDay + " " + isoClock
	}
	return d.day + " " + d.clock
}

// Day is a day by the calendar here.
func (d Dates) Day(t time.Time) string {
	if d.day == "" {
		return t.Local().Format(isoDay)
	}
	return t.Local().Format(d.day)
}

// Minute is a moment by the clock here.
func (d Dates) Minute(t time.Time) string { return t.Local().Format(d.layout()) }

// Moment is a moment with its zone.
func (d Dates) Moment(t time.Time) string { return t.Local().Format(d.layout() + " -07:00") }

// Clock is a moment where it was, by the clock there.
func (d Dates) Clock(t time.Time) string { return t.Format(d.layout()) }

// Taken is a moment where it was, with its zone.
func (d Dates) Taken(t time.Time) string { return t.Format(d.layout() + " -07:00") }

// Again is a moment that is on record as text, as units.Moment writes it; other texts stay as they are.
func (d Dates) Again(said string) string {
	t, err := time.Parse(isoDay+" "+isoClock+" -07:00", said)
	if err != nil {
		return said
	}
	return t.Format(d.layout() + " -07:00")
}
