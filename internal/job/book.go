package job

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"twinshelf/internal/durable"
	"twinshelf/internal/units"
)

const (
	// maxEntry is the longest entry that is read, in bytes, maxRecord the largest record.
	maxEntry  = 3 * units.MiB
	maxRecord = 512 * units.MiB
	// maxJobs is how many records of a folder are read.
	maxJobs = 100_000
	suffix  = ".job"
)

// Book is a folder of records, one file for each case: a line of JSON for each entry, only ever appended to.
type Book struct{ dir string }

// NewBook is the book in a folder, which needn't exist.
func NewBook(dir string) *Book { return &Book{dir} }

// ErrNoJob means that no case has that number or name.
var ErrNoJob = errors.New("no such case")

// Damage is a place of a record that can't be read.
type Damage struct {
	File string
	Line int // counted from 1
	Err  error
}

func (d *Damage) Error() string {
	return fmt.Sprintf("line %d of the record %s can't be read: %v; the rest of it is shown", d.Line, d.File, d.Err)
}

func (d *Damage) Unwrap() error { return d.Err }

var validID = regexp.MustCompile(`^[0-9a-f]{16}$`)

// NewID makes the ID of a case.
func NewID() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

// NewEntry is an entry of this moment.
func NewEntry(kind Kind) Entry {
	now := time.Now()
	return Entry{ID: now.UTC().Format("20060102T150405.000000Z") + "-" + NewID()[:8], At: now, Kind: kind}
}

func (b *Book) path(id string) string { return filepath.Join(b.dir, id+suffix) }

// Append adds entries to the record of a case, and returns once they will outlive a power cut.
func (b *Book) Append(id string, entries ...Entry) error {
	if !validID.MatchString(id) {
		return fmt.Errorf("%w: %q is no ID of one", ErrNoJob, id)
	}
	var lines bytes.Buffer
	for _, e := range entries {
		line, err := json.Marshal(e)
		if err != nil {
			return fmt.Errorf("an entry of case %s can't be written: %w", id, err)
		}
		if len(line) >= maxEntry {
			return fmt.Errorf("an entry of case %s has %s: more than is kept", id, units.Bytes(int64(len(line))))
		}
		lines.Write(append(line, '\n'))
	}
	if err := os.MkdirAll(b.dir, 0o700); err != nil {
		return fmt.Errorf("the record of case %s can't be kept: %w", id, err)
	}
	if err := durable.Append(b.path(id), lines.Bytes()); err != nil {
		return fmt.Errorf("the record of case %s can't be kept: %w", id, err)
	}
	return nil
}

// Read reads a case by its ID. What of its record can't be read is among its problems.
func (b *Book) Read(id string) (*Job, error) {
	if !validID.MatchString(id) {
		return nil, fmt.Errorf("%w: %q is no ID of one", ErrNoJob, id)
	}
	f, err := os.Open(b.path(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNoJob, id)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	entries, problems := readEntries(io.LimitReader(f, maxRecord), id+suffix)
	j := Of(id, entries)
	j.Problems = problems
	return j, nil
}

// readEntries reads the lines of a record; those that can't be read are told.
func readEntries(r io.Reader, name string) (entries []Entry, problems []error) {
	lines := bufio.NewReaderSize(r, 64<<10)
	for n := 1; ; n++ {
		line, err := readLine(lines)
		if len(bytes.TrimSpace(line)) > 0 {
			var e Entry
			if bad := json.Unmarshal(units.VisibleJSON(line), &e); bad != nil {
				problems = append(problems, &Damage{name, n, bad})
			} else if e.ID == "" || e.At.IsZero() {
				problems = append(problems, &Damage{name, n, errors.New("it has no ID or no time")})
			} else {
				entries = append(entries, e)
			}
		}
		switch {
		case errors.Is(err, errLong):
			problems = append(problems, &Damage{name, n, err})
		case errors.Is(err, io.EOF):
			return entries, problems
		case err != nil:
			return entries, append(problems, &Damage{name, n, err})
		}
	}
}

var errLong = fmt.Errorf("it is longer than %s", units.Bytes(maxEntry))

// readLine reads up to the end of a line; one that is too long is passed over.
func readLine(r *bufio.Reader) ([]byte, error) {
	var line []byte
	long := false
	for {
		piece, err := r.ReadSlice('\n')
		if long = long || len(line)+len(piece) > maxEntry; !long {
			line = append(line, piece...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case long && (err == nil || errors.Is(err, io.EOF)):
			return nil, errors.Join(errLong, err)
		}
		return line, err
	}
}

// IDs are the cases of the book.
func (b *Book) IDs() ([]string, error) {
	items, err := os.ReadDir(b.dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the records can't be listed: %w", err)
	}
	var out []string
	for _, it := range items[:min(len(items), maxJobs)] {
		if id, is := strings.CutSuffix(it.Name(), suffix); is && validID.MatchString(id) {
			out = append(out, id)
		}
	}
	return out, nil
}

// List reads all cases, those that were worked on last first.
func (b *Book) List() (jobs []*Job, problems []error) {
	ids, err := b.IDs()
	if err != nil {
		return nil, []error{err}
	}
	for _, id := range ids {
		j, err := b.Read(id)
		if err != nil {
			problems = append(problems, err)
			continue
		}
		jobs = append(jobs, j)
	}
	slices.SortStableFunc(jobs, func(x, y *Job) int { return y.Last().Compare(x.Last()) })
	return jobs, problems
}

// Find finds a case by its number, its ID or the beginning of that, or its machine's name; of several with that machine
// the one that was worked on last.
func Find(jobs []*Job, ref string) (*Job, error) {
	ref = strings.TrimSpace(ref)
	for _, is := range []func(j *Job) bool{
		func(j *Job) bool { return j.ID == ref },
		func(j *Job) bool { return strings.EqualFold(j.Number, ref) },
		func(j *Job) bool { return strings.EqualFold(j.Machine, ref) },
		func(j *Job) bool { return len(ref) >= 4 && strings.HasPrefix(j.ID, strings.ToLower(ref)) },
	} {
		if i := slices.IndexFunc(jobs, is); i >= 0 && ref != "" {
			return jobs[i], nil
		}
	}
	return nil, fmt.Errorf("%w: %q is the number, ID or machine of none", ErrNoJob, ref)
}

// UsualNumbers is how cases are numbered where the shop hasn't said otherwise: YYYY is the year, N a digit of the
// running number.
const UsualNumbers = "YYYY-NNN"

var running = regexp.MustCompile(`N+`)

// IsPattern says whether a pattern has a running number.
func IsPattern(pattern string) bool { return running.MatchString(pattern) }

// NextNumber is the number of a new case by a pattern such as "YYYY-NNN": one more than the largest that is there of
// this pattern and year.
func NextNumber(pattern string, now time.Time, jobs []*Job) string {
	if !IsPattern(pattern) {
		pattern = UsualNumbers
	}
	pattern = strings.ReplaceAll(pattern, "YYYY", strconv.Itoa(now.Year()))
	at := running.FindStringIndex(pattern)
	head, tail := pattern[:at[0]], pattern[at[1]:]
	most := 0
	for _, j := range jobs {
		middle, is := strings.CutPrefix(j.Number, head)
		if middle, ends := strings.CutSuffix(middle, tail); is && ends {
			if n, err := strconv.Atoi(middle); err == nil && n > most && n < 1<<31 {
				most = n
			}
		}
	}
	return fmt.Sprintf("%s%0*d%s", head, at[1]-at[0], most+1, tail)
}
