package deed

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fundus/core/inventory"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/oscall"
)

// Store is a state directory with its deeds and stored drafts.
type Store struct {
	Dir  string
	Now  func() time.Time
	Free func(path string) (int64, error) // bytes left where the path lies
	Limits
	manifests manifests
}

// Limits of a store.
type Limits struct {
	Images   int64         // bytes of images of one deed, compressed
	Deeds    int           // how many are kept; 0 for all
	Drafts   int           // how many wait at most
	DraftAge time.Duration // then a stored draft is forgotten
}

const maxManifest = 64 << 20

// NewStore is the store in the directory, which is made on first use.
func NewStore(dir string, now func() time.Time) *Store {
	return &Store{Dir: dir, Now: now, Free: oscall.FreeBytes, Limits: Limits{Images: 1 << 30, Drafts: 50, DraftAge: 24 * time.Hour}}
}

// Deed is one record.
type Deed struct {
	Manifest
	State    State
	UndoneBy string   // the undo that took it back
	Problem  error    // why it cannot be read
	Later    []string // what only the next boot brings about; known right after the commit alone
	Remarks  []string // what a commit has to say besides
	dir      string
	at       position
	runs     []run
}

// Errors of the store.
var (
	ErrNone      = errors.New("no such deed")
	ErrAmbiguous = errors.New("fits more than one deed")
	ErrNoDraft   = errors.New("no such draft")
	ErrNotOver   = errors.New("it was cut short")
	ErrRoot      = errors.New("it is about the system below")
)

func (s *Store) path(parts ...string) string {
	return filepath.Join(append([]string{s.Dir}, parts...)...)
}

func (s *Store) prepare() error {
	for _, dir := range []string{s.Dir, s.path("deeds"), s.path("drafts")} {
		if _, err := os.Stat(dir); err == nil {
			continue
		}
		err := os.MkdirAll(dir, 0o700)
		if err == nil {
			err = oscall.SyncDir(filepath.Dir(dir))
		}
		if err != nil {
			return fmt.Errorf("state directory: %w; choose another with --state DIR", err)
		}
	}
	return nil
}

// sweep removes directories without a manifest: they never touched a device, and
// nobody is writing one while the lock is held.
func (s *Store) sweep() error {
	found, err := filepath.Glob(s.path("deeds", "*"))
	for _, dir := range found {
		if _, errStat := os.Stat(filepath.Join(dir, "manifest")); errors.Is(errStat, fs.ErrNotExist) {
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}
	return err
}

// entry is a deed in a listing that reads no manifest: with thousands of deeds those take longer
// than a commit.
type entry struct {
	name   string
	number int
	state  State
}

// listing gives all deeds that have a manifest, newest first, by their names and logs. One whose log
// cannot be read counts as unfinished: whoever goes by it reads it whole.
func (s *Store) listing() ([]entry, error) {
	found, err := os.ReadDir(s.path("deeds"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []entry
	for _, f := range found {
		if _, err := os.Stat(s.path("deeds", f.Name(), "manifest")); err != nil {
			continue
		}
		e := entry{f.Name(), numberOf(f.Name()), Unfinished}
		if at, err := readPosition(s.path("deeds", f.Name(), "log")); err == nil {
			e.state = at.state
		}
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b entry) int { return cmp.Compare(b.number, a.number) })
	return out, err
}

func numberOf(name string) int {
	number, _ := strconv.Atoi(strings.SplitN(name, "-", 2)[0])
	return number
}

// prune removes the oldest deeds beyond those that are kept, of the listing and one that came
// since. One that was cut short, or that cannot be read, stays.
func (s *Store) prune(list []entry) (err error) {
	for i := s.Deeds - 1; s.Deeds > 0 && i < len(list); i++ {
		if list[i].state == Unfinished {
			continue
		}
		if d := s.read(list[i].name); d != nil && d.Problem == nil && d.State != Unfinished {
			err = errors.Join(err, os.RemoveAll(d.dir))
		}
	}
	return err
}

// List gives all deeds, newest first. One that cannot be read has a Problem.
func (s *Store) List() ([]*Deed, error) {
	entries, err := os.ReadDir(s.path("deeds"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Deed
	for _, e := range entries {
		d := s.read(e.Name())
		if d != nil {
			out = append(out, d)
		}
	}
	slices.SortFunc(out, func(a, b *Deed) int { return cmp.Compare(b.Number, a.Number) })
	for _, undo := range out { // newest first: an undo that was itself undone counts no more
		if undo.Undoes == "" || undo.State != Done || undo.UndoneBy != "" {
			continue
		}
		for _, d := range out {
			if d.ID == undo.Undoes {
				d.UndoneBy = undo.ID
			}
		}
	}
	return out, nil
}

// read gives nil for a directory without a manifest, which never touched a
// device.
func (s *Store) read(name string) *Deed {
	d := &Deed{dir: s.path("deeds", name), Manifest: Manifest{ID: name, Number: numberOf(name)}, State: Unfinished}
	m, err := s.manifests.read(filepath.Join(d.dir, "manifest"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		d.Problem = fmt.Errorf("deed %s: %w", name, err)
		return d
	}
	d.Manifest = *m
	if d.at, err = readPosition(filepath.Join(d.dir, "log")); err != nil {
		d.Problem = fmt.Errorf("deed %s: %w", name, err)
		return d
	}
	d.State = d.at.state
	return d
}

// open reads the extents and checks the digests of the images.
func (d *Deed) open() error {
	if d.Problem != nil {
		return d.Problem
	}
	if err := d.Carried(); err != nil {
		return err
	}
	for name, want := range d.Digests {
		got, err := fileDigest(filepath.Join(d.dir, filepath.Base(name)))
		if err != nil {
			return fmt.Errorf("deed %s: %w", d.ID, err)
		}
		if got != want {
			return fmt.Errorf("deed %s: %s: %w: the digest does not match", d.ID, name, ErrTorn)
		}
	}
	data, err := os.ReadFile(filepath.Join(d.dir, "extents"))
	if err != nil {
		return err
	}
	if d.runs, err = decodeRuns(data); err == nil {
		err = d.checkRanges(len(d.runs))
	}
	if err != nil {
		return fmt.Errorf("deed %s: %w", d.ID, err)
	}
	return nil
}

// Newest is the word for the deed that undo takes without any.
const Newest = "last"

// Find finds a deed by its number, code or whole identifier; the empty word
// means the newest that can be taken back.
func (s *Store) Find(word string) (*Deed, error) {
	all, err := s.List()
	if err != nil {
		return nil, err
	}
	if word == "" || word == Newest {
		for _, d := range all {
			if d.Problem == nil && d.Undoable() {
				return d, nil
			}
		}
		return nil, fmt.Errorf("%w that could be taken back", ErrNone)
	}
	number, errNumber := strconv.Atoi(word)
	var found []*Deed
	for _, d := range all {
		if d.ID == word || d.Code == word || errNumber == nil && d.Number == number {
			found = append(found, d)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return nil, way.To(fmt.Errorf("deed %q: %w", word, ErrNone), way.DeedList())
	}
	return nil, fmt.Errorf("deed %q: %w: %s and %s; write the whole identifier", word, ErrAmbiguous, found[0].ID, found[1].ID)
}

// Undoable reports whether undo, asked without a name, would take this one.
func (d *Deed) Undoable() bool { return d.Reversible() && d.UndoneBy == "" && d.Undoes == "" }

// Reversible reports whether there is a way back from a deed that is done.
func (d *Deed) Reversible() bool {
	return d.State == Done && !d.Forward && d.Last == 0 && d.Carried() == nil
}

// Remove deletes a deed's record. One that was cut short is kept: it is the
// only way out.
func (s *Store) Remove(word string) (*Deed, error) {
	d, err := s.Find(word)
	if err != nil {
		return nil, err
	}
	if d.Problem == nil && d.State == Unfinished {
		return nil, way.To(fmt.Errorf("deed %s: %w", d.ID, ErrNotOver), way.Recover(way.N(d.Number)))
	}
	return d, os.RemoveAll(d.dir)
}

// Touches says what both deeds have to do with each other: the most that any two of their steps
// have.
func (m *Manifest) Touches(o *Manifest) (most Touch) {
	for _, a := range m.Steps {
		for _, b := range o.Steps {
			most = max(most, carrierOf(a).touches(sighted{m, a}, sighted{o, b}))
		}
	}
	return most
}

func (m *Manifest) device(name string) draft.Device {
	for _, d := range m.Devices {
		if d.Name == name {
			return d
		}
	}
	return draft.Device{Name: name, Identity: inventory.Identity{Disk: name}}
}

// StoredDraft is a draft that waits for `fundus commit CODE`.
type StoredDraft struct {
	Format  int           `json:"format"`
	Code    string        `json:"code"`
	Digest  string        `json:"digest"` // all 256 bits
	Created time.Time     `json:"created"`
	Machine string        `json:"machine"`
	Title   string        `json:"title"`
	Request draft.Request `json:"request"`
	Seed    string        `json:"seed"`
	Clock   time.Time     `json:"clock"`
	Images  []string      `json:"images,omitempty"`  // image files that it works on
	Lose    []string      `json:"lose,omitempty"`    // what was named as lost already
	Despite []string      `json:"despite,omitempty"` // which findings were accepted
	Root    string        `json:"root,omitempty"`    // of the system whose text files it changes
	Forward bool          `json:"forward_only,omitempty"`
	InPlace bool          `json:"in_place,omitempty"`
}

// PutDraft stores a draft and forgets those that are too old or too many.
func (s *Store) PutDraft(d StoredDraft) error {
	if err := s.prepare(); err != nil {
		return err
	}
	data, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		return err
	}
	if err := oscall.WriteFile(s.path("drafts", d.Code+".json"), append(data, '\n'), ownFile()); err != nil {
		return err
	}
	all, err := s.Drafts()
	for i := s.Limits.Drafts; i < len(all); i++ {
		err = errors.Join(err, os.Remove(s.path("drafts", all[i].Code+".json")))
	}
	return err
}

func ownFile() oscall.Attributes {
	return oscall.Attributes{Mode: 0o600, UID: os.Getuid(), GID: os.Getgid()}
}

// Drafts lists the stored drafts that are still good, newest first.
func (s *Store) Drafts() ([]StoredDraft, error) {
	files, err := filepath.Glob(s.path("drafts", "*.json"))
	if err != nil {
		return nil, err
	}
	var out []StoredDraft
	for _, f := range files {
		data, err := os.ReadFile(f)
		var d StoredDraft
		if err != nil || json.Unmarshal(data, &d) != nil || s.Now().Sub(d.Created) > s.DraftAge {
			continue
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b StoredDraft) int { return b.Created.Compare(a.Created) })
	return out, nil
}

// Draft finds a stored draft by its code.
func (s *Store) Draft(code string) (StoredDraft, error) {
	all, err := s.Drafts()
	if err != nil {
		return StoredDraft{}, err
	}
	var found []StoredDraft
	for _, d := range all {
		if d.Code == code {
			return d, nil
		}
		if code != "" && strings.HasPrefix(d.Code, strings.ToLower(code)) {
			found = append(found, d)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return StoredDraft{}, fmt.Errorf("draft %q: %w: %s and %s begin so", code, ErrAmbiguous, found[0].Code, found[1].Code)
	}
	return StoredDraft{}, way.To(fmt.Errorf("draft %q: %w; drafts are kept for %d hours", code, ErrNoDraft,
		int(s.DraftAge.Hours())), way.DraftList())
}

// RemoveDraft forgets a stored draft.
func (s *Store) RemoveDraft(code string) error {
	d, err := s.Draft(code)
	if err != nil {
		return err
	}
	return os.Remove(s.path("drafts", d.Code+".json"))
}
