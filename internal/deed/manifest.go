package deed

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"fundus/internal/draft"
)

// Manifest is what a deed says of itself.
type Manifest struct {
	Format  int               `json:"format"`
	ID      string            `json:"id"`
	Number  int               `json:"number"`
	Code    string            `json:"code"`
	Created time.Time         `json:"created"`
	BootID  string            `json:"boot_id"`
	Machine string            `json:"machine"`
	Root    string            `json:"root,omitempty"` // of the system whose text files it changed; empty for the running one
	Title   string            `json:"title"`
	Request draft.Request     `json:"request"`
	Undo    draft.Grade       `json:"undo"`
	Last    int               `json:"last_step,omitempty"`    // from this one on, counted from 1, nothing is taken back; 0: all can be
	Undoes  string            `json:"undoes,omitempty"`       // the deed that this one takes back
	Devices []draft.Device    `json:"devices"`                // that any step names
	Forward bool              `json:"forward_only,omitempty"` // nothing from before is kept
	Steps   []draft.Step      `json:"steps"`
	Strokes []StrokeRecord    `json:"strokes"`
	Digests map[string]string `json:"digests"` // SHA-256 of extents, after.img, before.img
	// Errors are the keys of the findings that there were before: to take the deed back to
	// where they were is no new error.
	Errors []string `json:"errors_before,omitempty"`
}

// StrokeRecord is one stroke. At most one of Bytes and Other is set; what Other means, the carrier of
// the step knows.
type StrokeRecord struct {
	Step  int             `json:"step"`
	Bytes *BytesRecord    `json:"bytes,omitempty"`
	Other json.RawMessage `json:"other,omitempty"`
}

// BytesRecord is a stroke of writing: After and Before are ranges of runs in extents.
type BytesRecord struct {
	Role   draft.Role `json:"role"`
	After  [2]int     `json:"after"`
	Before [2]int     `json:"before"`
}

// stepOf is the step of a stroke.
func (m *Manifest) stepOf(stroke int) draft.Step { return m.Steps[m.Strokes[stroke].Step] }

// Written lists the disks whose bytes it changed.
func (m *Manifest) Written() []draft.Device {
	return draft.Written(m.Devices)
}

// InRoot refuses a deed about the system below another directory than the one
// that is worked on: its paths would mean other files. Files of the running
// system are wherever a rescue system says that they are.
func (m *Manifest) InRoot(root string) error {
	if m.Root == "" || m.Root == root {
		return nil
	}
	return fmt.Errorf("deed %s: %w %s; add --root %s", m.ID, ErrRoot, m.Root, m.Root)
}

// encode gives the JSON followed by a line with its digest.
func (m *Manifest) encode() ([]byte, error) {
	body, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(body)
	return append(body, []byte("\nsha256 "+hex.EncodeToString(sum[:])+"\n")...), nil
}

// decodeManifest reads what encode wrote; ErrTorn where a byte is wrong,
// ErrVersion where a later release wrote it.
func decodeManifest(data []byte) (*Manifest, error) {
	at := bytes.LastIndex(data, []byte("\nsha256 "))
	if at < 0 {
		return nil, fmt.Errorf("manifest: %w: no digest", ErrTorn)
	}
	body := data[:at]
	sum := sha256.Sum256(body)
	if string(data[at:]) != "\nsha256 "+hex.EncodeToString(sum[:])+"\n" {
		return nil, fmt.Errorf("manifest: %w: the digest does not match", ErrTorn)
	}
	var m Manifest
	var form struct {
		Format int `json:"format"`
	}
	err := json.Unmarshal(body, &form)
	if err == nil && form.Format == 2 {
		body, err = fromFormat2(body)
	}
	if err == nil {
		err = json.Unmarshal(body, &m)
	}
	if err != nil {
		return nil, fmt.Errorf("manifest: %w: %w", ErrTorn, err)
	}
	m.Format = form.Format
	if m.Format > draft.Format {
		return nil, fmt.Errorf("manifest: %w: format %d, this release knows %d", ErrVersion, m.Format, draft.Format)
	}
	return &m, m.readSteps()
}

// readSteps decodes the bodies of the steps, and refuses what cannot be carried out. Of a format
// that is only shown they stay unread.
func (m *Manifest) readSteps() error {
	for i := range m.Steps {
		s := &m.Steps[i]
		raw, ok := s.Body.(*draft.Unread)
		c, known := carriers()[s.Kind()]
		switch {
		case !ok:
			continue
		case m.Carried() != nil:
			continue
		case !known:
			return fmt.Errorf("manifest: step %d: %w: this release carries out no step of kind %q", i, ErrVersion, s.Kind())
		}
		body, err := c.read(raw.Data)
		if err != nil {
			return fmt.Errorf("manifest: step %d: %w: it is not what its kind %q says: %w", i, ErrTorn, s.Kind(), err)
		}
		s.Body = body
	}
	if m.Carried() != nil {
		return nil
	}
	for i, s := range m.Strokes {
		if s.Step < 0 || s.Step >= len(m.Steps) {
			return fmt.Errorf("manifest: stroke %d: %w", i, ErrTorn)
		}
		if _, writes := m.Steps[s.Step].Body.(*draft.Writing); writes != (s.Bytes != nil) {
			return fmt.Errorf("manifest: stroke %d: %w: it is not what its step says", i, ErrTorn)
		}
	}
	return nil
}

// ErrOld is a deed of a format that this release only shows.
var ErrOld = errors.New("its record has an older format")

// Carried refuses a deed of an older format: what its steps mean is known to the program
// that wrote it.
func (m *Manifest) Carried() error {
	if m.Format == draft.Format || m.Format == 2 {
		return nil
	}
	return fmt.Errorf("deed %s: %w, %d, where this release carries out 2 and %d: the fundus that committed it, older than 0.1.0, can undo or recover it",
		m.ID, ErrOld, m.Format, draft.Format)
}

func (m *Manifest) checkRanges(runs int) error {
	for i, s := range m.Strokes {
		if s.Bytes == nil {
			continue
		}
		for _, r := range [][2]int{s.Bytes.After, s.Bytes.Before} {
			if r[0] < 0 || r[1] < r[0] || r[1] > runs {
				return fmt.Errorf("manifest: stroke %d: %w: runs %v of %d", i, ErrTorn, r, runs)
			}
		}
	}
	return nil
}

// manifests keeps what was read: a command goes through all deeds more than once,
// and a manifest is not changed once it is in its place.
type manifests struct {
	mu    sync.Mutex
	known map[string]knownManifest
}

type knownManifest struct {
	*Manifest
	size int64
	time time.Time
}

// read gives the manifest in the file, which it decodes where it is not the one that
// it was.
func (k *manifests) read(path string) (*Manifest, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if had := k.known[path]; had.Manifest != nil && had.size == info.Size() && had.time.Equal(info.ModTime()) {
		return had.Manifest, nil
	}
	if info.Size() > maxManifest {
		return nil, ErrTorn
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	m, err := decodeManifest(data)
	if err != nil {
		return nil, err
	}
	if k.known == nil {
		k.known = map[string]knownManifest{}
	}
	k.known[path] = knownManifest{m, info.Size(), info.ModTime()}
	return m, nil
}
