package draft

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"
	"sync/atomic"

	"github.com/zeebo/blake3"

	"fundus/core/block"
	"fundus/core/quantity"
)

// Seal works out the code: the first 32 bits of a SHA-256 over everything that
// makes the draft what it is, with the bytes before and after each stroke.
func (p *Plan) Seal(ctx context.Context) error {
	h := sha256.New()
	d := &p.Draft
	head, err := json.Marshal(struct {
		Format  int
		Machine string
		Devices []Device
		Request Request
		Clock   int64
		Forward bool
		Steps   []Step
	}{d.Format, d.Machine, d.Devices, d.Request, d.Clock.UnixNano(), d.Forward, d.Steps})
	if err != nil {
		return err
	}
	h.Write(head)
	h.Write(d.Seed[:])
	sums, stored, err := strokeSums(ctx, p.Strokes(fenceStandIn()), d.Forward)
	if err != nil {
		return err
	}
	p.Stored = stored
	for _, sum := range sums {
		h.Write(sum)
	}
	h.Sum(d.Digest[:0])
	d.Code = hex.EncodeToString(d.Digest[:4])
	return nil
}

// strokeSums hashes the bytes before and after each stroke, as many batches at a
// time as there are processors, and adds up those that a deed would keep: of one that
// only goes forward, those after.
func strokeSums(ctx context.Context, strokes []Stroke, forward bool) ([][]byte, quantity.Bytes, error) {
	var jobs []func(buf []byte) ([]byte, error)
	var stored, dropped atomic.Int64
	m := &memo{sums: map[memoKey][leaf]byte{}}
	for _, s := range strokes {
		if other := s.Other; other != nil {
			jobs = append(jobs, func([]byte) ([]byte, error) {
				digest, kept, err := other.Sum()
				stored.Add(int64(kept))
				return digest, err
			})
		}
		u := s.Bytes
		if u == nil {
			continue
		}
		for _, batch := range batches(u.Extents) {
			before := &stored
			if forward {
				before = &dropped
			}
			jobs = append(jobs, func(buf []byte) ([]byte, error) { return sum(u.Device, batch, u.Before, buf, m, before) },
				func(buf []byte) ([]byte, error) { return sum(u.Device, batch, u.After, buf, m, &stored) })
		}
	}
	sums, errs := make([][]byte, len(jobs)), make([]error, len(jobs))
	var wait sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			buf := make([]byte, piece)
			for i := range next {
				if errs[i] = ctx.Err(); errs[i] == nil {
					sums[i], errs[i] = jobs[i](buf)
				}
			}
		})
	}
	for i := range jobs {
		next <- i
	}
	close(next)
	wait.Wait()
	return sums, quantity.Bytes(stored.Load()), errors.Join(errs...)
}

// batches cuts a list of extents where a batch has reached a few MiB.
func batches(list []block.Extent) [][]block.Extent {
	var out [][]block.Extent
	from, held := 0, int64(0)
	for i, e := range list {
		if held += e.Len; held >= 2*piece || i == len(list)-1 {
			out = append(out, list[from:i+1])
			from, held = i+1, 0
		}
	}
	return out
}

// memo keeps the digests of bytes that stand in several places, such as the
// copies of a file system's descriptors.
type memo struct {
	sync.Mutex
	sums map[memoKey][leaf]byte
}

type memoKey struct {
	first *byte
	n     int
}

func (m *memo) digest(p []byte) [leaf]byte {
	key := memoKey{&p[0], len(p)}
	m.Lock()
	sum, known := m.sums[key]
	m.Unlock()
	if known {
		return sum
	}
	sum = blake3.Sum256(p)
	m.Lock()
	m.sums[key] = sum
	m.Unlock()
	return sum
}

// sum hashes places and digests of the extents' bytes as the view reads them.
// Zeros count alike whether they are stored or a hole; what is not zero is added up. The
// buffer has a piece's length.
func sum(disk string, extents []block.Extent, view io.ReaderAt, buf []byte, m *memo, stored *atomic.Int64) ([]byte, error) {
	h := sha256.New()
	var head [17]byte
	for _, e := range extents {
		for at := int64(0); at < e.Len; {
			n := min(e.Len-at, piece)
			binary.BigEndian.PutUint64(head[0:], uint64(e.Off+at))
			binary.BigEndian.PutUint64(head[8:], uint64(n))
			part, held, err := bytesOf(view, e.Off+at, n, buf)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", disk, err)
			}
			head[16] = byte(min(len(part), 1))
			stored.Add(int64(len(part)))
			h.Write(head[:])
			switch {
			case held && len(part) > 0:
				inner := m.digest(part)
				h.Write(inner[:])
			case len(part) > 0:
				inner := blake3.Sum256(part)
				h.Write(inner[:])
			}
			at += n
		}
	}
	return h.Sum(nil), nil
}

// bytesOf gives the bytes of the range, none where all are zero, and whether
// they are the view's own.
func bytesOf(view io.ReaderAt, off, n int64, buf []byte) (part []byte, held bool, err error) {
	if block.KnownZero(view, off, n) {
		return nil, false, nil
	}
	part = block.HeldBytes(view, off, n)
	held = part != nil
	if !held {
		part = buf[:n]
		if err := block.ReadFull(view, part, off); err != nil {
			return nil, false, err
		}
	}
	if block.IsZero(part) {
		return nil, false, nil
	}
	return part, held, nil
}

// leaf is the length of a piece's own digest, in bytes. It is one of BLAKE3, which is
// several times as fast where the processor has no instructions for SHA-256.
const leaf = 32

// piece is how many bytes are looked at together.
const piece = 1 << 20
