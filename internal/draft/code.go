package draft

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"io"

	"fundus/core/block"
)

// Seal works out the code: the first 32 bits of a SHA-256 over everything that
// makes the draft what it is, with the bytes before and after each unit.
func (p *Plan) Seal() error {
	h := sha256.New()
	d := &p.Draft
	head, err := json.Marshal(struct {
		Format  int
		Machine string
		Targets []Target
		Request Request
		Clock   int64
		Steps   []Step
	}{d.Format, d.Machine, d.Targets, d.Request, d.Clock.UnixNano(), d.Steps})
	if err != nil {
		return err
	}
	h.Write(head)
	h.Write(d.Seed[:])
	for _, u := range p.Units(fenceStandIn()) {
		if err := u.digest(h); err != nil {
			return err
		}
	}
	h.Sum(d.Digest[:0])
	d.Code = hex.EncodeToString(d.Digest[:4])
	return nil
}

func (u Unit) digest(h hash.Hash) error {
	for _, e := range u.Extents {
		var head [17]byte
		binary.BigEndian.PutUint64(head[0:], uint64(e.Off))
		binary.BigEndian.PutUint64(head[8:], uint64(e.Len))
		if e.Zero {
			head[16] = 1
		}
		h.Write(head[:])
		for _, view := range []io.ReaderAt{u.Before, u.After} {
			if err := copyRange(h, view, e); err != nil {
				return fmt.Errorf("%s: %w", u.Disk, err)
			}
		}
	}
	return nil
}

func copyRange(h hash.Hash, from io.ReaderAt, e block.Extent) error {
	buf := make([]byte, min(e.Len, 1<<20))
	for at := int64(0); at < e.Len; {
		part := buf[:min(e.Len-at, int64(len(buf)))]
		if err := block.ReadFull(from, part, e.Off+at); err != nil {
			return err
		}
		h.Write(part)
		at += int64(len(part))
	}
	return nil
}
