package deed

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fundus/internal/oscall"
)

// Kept is a text file as it was seen once.
type Kept struct {
	Seen time.Time
	Data []byte
	path string
}

// mostKept is how many states of a file are kept.
const mostKept = 10

// Keep remembers a text file by its digest, so that one which somebody emptied can be brought
// back though no deed ever changed it. What is known already is only seen again.
func (s *Store) Keep(path string, data []byte, now time.Time) error {
	sum := sha256.Sum256(data)
	digest := hex.EncodeToString(sum[:6])
	dir := s.path("seen", filepath.Base(path))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	known, err := s.Kept(path)
	if err != nil {
		return err
	}
	if len(known) > 0 && !now.After(known[0].Seen) { // clocks go back; what is seen now is the newest
		now = known[0].Seen.Add(1)
	}
	name := filepath.Join(dir, fmt.Sprintf("%019d-%s", now.UnixNano(), digest))
	for _, k := range known {
		if strings.HasSuffix(k.path, "-"+digest) {
			return os.Rename(k.path, name)
		}
	}
	if err := oscall.WriteFile(name, data, ownFile()); err != nil {
		return err
	}
	for _, old := range known[min(len(known), mostKept-1):] {
		if err := os.Remove(old.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Kept lists the states of a text file that were seen, the newest first.
func (s *Store) Kept(path string) ([]Kept, error) {
	files, err := filepath.Glob(s.path("seen", filepath.Base(path), "*-*"))
	if err != nil {
		return nil, err
	}
	slices.Sort(files)
	var out []Kept
	for _, f := range slices.Backward(files) {
		at, _, _ := strings.Cut(filepath.Base(f), "-")
		nanos, err := strconv.ParseInt(at, 10, 64)
		if err != nil {
			continue
		}
		data, err := os.ReadFile(f)
		if err != nil {
			return nil, err
		}
		out = append(out, Kept{time.Unix(0, nanos), data, f})
	}
	return out, nil
}
