// Package job is the record of customers' cases: what was done to which disk, when, and what came of it. A case is a
// set of entries, each written once and never changed; whoever has the entries, in whatever order, has the same case.
// The format is described in docs/job-format.md.
package job

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
)

// Kind is what an entry tells.
type Kind string

const (
	// About says what the case is about, from then on.
	About Kind = "about"
	// Noted is a note of the technician.
	Noted Kind = "note"
	// Looked is a disk that was looked at, without any work on it.
	Looked Kind = "looked"
	// Begun and Ended are the beginning and the end of a work.
	Begun Kind = "begun"
	Ended Kind = "ended"
	// Closed and Reopened end the case, and begin it again.
	Closed   Kind = "closed"
	Reopened Kind = "reopened"
)

// Entry is one thing that happened. Besides its kind only what belongs to that is set.
type Entry struct {
	// ID names it, unique among all entries of all machines; it sorts by time.
	ID    string    `json:"id"`
	At    time.Time `json:"when"`
	Kind  Kind      `json:"kind"`
	About *Case     `json:"about,omitempty"`
	Note  string    `json:"note,omitempty"`
	Look  *Disk     `json:"looked,omitempty"`
	Begun *Work     `json:"begun,omitempty"`
	Ended *Result   `json:"ended,omitempty"`
}

// Case is what a case is about. Any of it may be empty.
type Case struct {
	Number   string `json:"case_number,omitempty"` // the shop's own, such as 2026-014
	Customer string `json:"customer,omitempty"`
	Contact  string `json:"contact,omitempty"`
	Machine  string `json:"machine,omitempty"` // its name on the shelf
	// Maker, Model and Serial are the machine's.
	Maker      string `json:"maker,omitempty"`
	Model      string `json:"model,omitempty"`
	Serial     string `json:"serial,omitempty"`
	Asked      string `json:"asked,omitempty"` // what the customer asked for
	Technician string `json:"technician,omitempty"`
}

// Disk is a disk at one moment.
type Disk struct {
	disk.Identity
	Table string `json:"table_kind"` // kind of partition table; empty without one
	Words string `json:"words"`      // what it holds, in a few words
	// Health is what the drive says of itself, in a sentence; empty where it says nothing, or nobody asked it.
	Health string `json:"health_words,omitempty"`
	Parts  []Part `json:"parts"`
	// Systems are what the Windows on it say of themselves, in words.
	Systems []string `json:"systems,omitempty"`
}

// Part is a part of a disk. Start and Size are in bytes.
type Part struct {
	Number     int    `json:"number"`
	Title      string `json:"title"`
	FileSystem string `json:"file_system,omitempty"`
	Role       string `json:"role,omitempty"`
	Start      int64  `json:"start"`
	Size       int64  `json:"size"`
	Used       *int64 `json:"used,omitempty"` // bytes; nil where it isn't known
}

// Sort is what kind of work was done.
type Sort string

const (
	Capture Sort = "capture"
	Restore Sort = "restore"
	Copy    Sort = "copy"
	Prove   Sort = "proof"
	Layout  Sort = "layout"
	Erase   Sort = "erase"
	PutBack Sort = "put back"
	TakeOut Sort = "files taken out"
	Check   Sort = "check of a disk"
)

// Work is what was about to be done, as it was confirmed.
type Work struct {
	ID    string `json:"-"` // of the entry that began it
	Sort  Sort   `json:"sort"`
	Title string `json:"title"`
	// Way is how a disk was erased: "quick", "zeros", "random", "discard" or "check".
	Way string `json:"way,omitempty"`
	// Machine is the name of the machine on the shelf; empty where the work is about none.
	Machine string `json:"machine,omitempty"`
	Shelf   string `json:"shelf_name,omitempty"`
	Twin    string `json:"twin,omitempty"`  // ID of the twin that was restored or proven
	Dated   string `json:"dated,omitempty"` // when that was taken
	From    []Disk `json:"sources,omitempty"`
	Before  []Disk `json:"targets_before,omitempty"` // each target as it was
	After   []Disk `json:"targets_after,omitempty"`  // and as it was planned
	// What the last page said.
	Lost   []string `json:"lost,omitempty"`
	Does   []string `json:"does,omitempty"`
	Warned []string `json:"warned,omitempty"`
	// Confirmed are what was typed for each target, and what that is.
	Confirmed []string `json:"confirmed,omitempty"`
	// Answers are the questions that were answered before it began.
	Answers []Answer `json:"answers,omitempty"`
	// Expected is how long it would probably take, in seconds.
	Expected float64 `json:"expected,omitempty"`
}

// Answer is a question that was asked before a work began, and what was answered.
type Answer struct {
	Asked  string `json:"asked_about"`
	Answer string `json:"answer"`
}

// Result is what a work came to.
type Result struct {
	Work    string   `json:"work"`  // ID of the work
	State   string   `json:"state"` // done, failed or cancelled
	Error   string   `json:"error,omitempty"`
	Seconds float64  `json:"seconds"`
	Moved   int64    `json:"moved"` // bytes that were read or written
	Notes   []string `json:"notes,omitempty"`
	More    int      `json:"more_notes,omitempty"` // notes beyond those
	// Of a capture: the twin that it made, what it read and what it brought to the shelf, in bytes.
	Twin   string `json:"twin,omitempty"`
	Used   int64  `json:"used,omitempty"`
	Added  int64  `json:"added,omitempty"`
	Unread int64  `json:"unread,omitempty"` // bytes of the source that couldn't be read
	// Hit are the files in unread places, by name.
	Hit []string `json:"hit,omitempty"`
	// Claims of the proof.
	Claims []Claim `json:"claims,omitempty"`
	// Pace is how fast it went; nil where that isn't on record.
	Pace *Pace `json:"pace,omitempty"`
}

// Claim is one statement of a proof.
type Claim struct {
	About string `json:"about"`
	Says  string `json:"says"`
	Holds bool   `json:"holds"`
}

// Done is a work with what it came to; Result is nil when no end is on record: it is under way, or was cut off.
type Done struct {
	Work
	Begun  time.Time
	Result *Result
	Ended  time.Time // zero without a result
}

// Job is a case, as its entries tell.
type Job struct {
	ID string
	Case
	Opened time.Time
	Closed time.Time // zero while it is open
	// Entries are all, by time.
	Entries []Entry
	// Problems are what of its record can't be read. The rest counts.
	Problems []error
}

// Of makes the case that entries tell; their order doesn't matter, and an entry that is there twice counts once.
func Of(id string, entries []Entry) *Job {
	j := &Job{ID: id}
	all := slices.Clone(entries)
	slices.SortStableFunc(all, func(a, b Entry) int {
		return cmp.Or(a.At.Compare(b.At), strings.Compare(a.ID, b.ID))
	})
	seen := map[string]bool{}
	for _, e := range all {
		if seen[e.ID] {
			continue
		}
		seen[e.ID] = true
		j.Entries = append(j.Entries, e)
		switch e.Kind {
		case About:
			if e.About != nil {
				j.Case = *e.About
			}
		case Closed:
			j.Closed = e.At
		case Reopened:
			j.Closed = time.Time{}
		}
	}
	if len(j.Entries) > 0 {
		j.Opened = j.Entries[0].At
	}
	return j
}

// Open says whether the case is open.
func (j *Job) Open() bool { return j.Closed.IsZero() }

// Last is when something was entered last.
func (j *Job) Last() time.Time {
	if len(j.Entries) == 0 {
		return time.Time{}
	}
	return j.Entries[len(j.Entries)-1].At
}

// Works are all works, in the order in which they were begun.
func (j *Job) Works() []Done {
	ends := map[string]Entry{}
	for _, e := range j.Entries {
		if e.Kind == Ended && e.Ended != nil {
			ends[e.Ended.Work] = e
		}
	}
	var out []Done
	for _, e := range j.Entries {
		if e.Kind != Begun || e.Begun == nil {
			continue
		}
		d := Done{Work: *e.Begun, Begun: e.At}
		d.ID = e.ID
		if end, ended := ends[e.ID]; ended {
			d.Result, d.Ended = end.Ended, end.At
		}
		out = append(out, d)
	}
	return out
}

// Notes are the technician's notes, by time.
func (j *Job) Notes() []Entry {
	return slices.DeleteFunc(slices.Clone(j.Entries), func(e Entry) bool { return e.Kind != Noted })
}

// Looks are the disks that were looked at, by time.
func (j *Job) Looks() []Entry {
	return slices.DeleteFunc(slices.Clone(j.Entries), func(e Entry) bool { return e.Kind != Looked || e.Look == nil })
}

// Title names the case in a few words: number, machine, customer.
func (j *Job) Title() string {
	var words []string
	for _, w := range []string{j.Number, j.Machine, j.Customer} {
		if w != "" {
			words = append(words, w)
		}
	}
	if len(words) == 0 {
		return "case " + j.ID
	}
	return strings.Join(words, ", ")
}

// Has says whether a text is in the case: in what it is about, its notes, or the disks and twins of its works.
func (j *Job) Has(text string) bool {
	text = strings.ToLower(text)
	has := []string{j.ID, j.Number, j.Customer, j.Contact, j.Machine, j.Maker, j.Model, j.Serial, j.Asked, j.Technician}
	for _, e := range j.Entries {
		has = append(has, e.Note)
		if e.Look != nil {
			has = append(has, e.Look.Identity.Model, e.Look.Identity.Serial)
		}
	}
	for _, w := range j.Works() {
		has = append(has, w.Title, w.Twin)
		for _, d := range slices.Concat(w.From, w.Before, w.After) {
			has = append(has, d.Identity.Model, d.Identity.Serial)
		}
		if w.Result != nil {
			has = append(has, w.Result.Twin)
		}
	}
	return slices.ContainsFunc(has, func(s string) bool { return strings.Contains(strings.ToLower(s), text) })
}
