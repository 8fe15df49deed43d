package draft

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
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
func (p *Plan) Seal(ctx context.Context) error { return p.SealBy(ctx, nil) }

// SealBy is Seal where the bytes of some strokes, by their numbers, were read to be kept: those are
// not read again.
func (p *Plan) SealBy(ctx context.Context, known map[int]Sums) error {
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
	sums, err := strokeSums(ctx, p.Strokes(fenceStandIn()), known, &d.Stored, d.Forward)
	if err != nil {
		return err
	}
	for _, sum := range sums {
		h.Write(sum)
	}
	h.Sum(d.Digest[:0])
	d.Code = hex.EncodeToString(d.Digest[:4])
	return nil
}

// Sums are the digests of a stroke's bytes, one for each batch of its extents.
type Sums struct{ Before, After [][]byte }

// strokeSums hashes the bytes before and after each stroke, as many batches at a
// time as there are processors, and adds up those that a deed would keep: of one that
// only goes forward, those after. What is known is not counted either.
func strokeSums(ctx context.Context, strokes []Stroke, known map[int]Sums, kept *quantity.Bytes, forward bool) ([][]byte, error) {
	var jobs []func(r *Reader) ([]byte, error)
	var stored, dropped atomic.Int64
	m := &memo{sums: map[memoKey][leaf]byte{}}
	for number, s := range strokes {
		if other := s.Other; other != nil {
			jobs = append(jobs, func(*Reader) ([]byte, error) {
				digest, kept, err := other.Sum()
				stored.Add(int64(kept))
				return digest, err
			})
		}
		u := s.Bytes
		if u == nil {
			continue
		}
		before := &stored
		if forward {
			before = &dropped
		}
		job := func(batch []block.Extent, view io.ReaderAt, of [][]byte, i int, stored *atomic.Int64) {
			jobs = append(jobs, func(r *Reader) ([]byte, error) {
				if of != nil {
					return of[i], nil
				}
				return r.sum(u.Device, batch, view, func(_ block.Extent, part []byte) error { stored.Add(int64(len(part))); return nil })
			})
		}
		for i, batch := range batches(u.Extents) {
			job(batch, u.Before, known[number].Before, i, before)
			job(batch, u.After, known[number].After, i, &stored)
		}
	}
	sums, errs := make([][]byte, len(jobs)), make([]error, len(jobs))
	var wait sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			r := &Reader{memo: m}
			for i := range next {
				if errs[i] = ctx.Err(); errs[i] == nil {
					sums[i], errs[i] = jobs[i](r)
				}
			}
		})
	}
	for i := range jobs {
		next <- i
	}
	close(next)
	wait.Wait()
	if known == nil {
		*kept = quantity.Bytes(stored.Load())
	}
	return sums, errors.Join(errs...)
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

// Reader reads the bytes of strokes in the pieces that their digests are made of.
type Reader struct {
	memo   *memo
	buf    []byte
	beside bool // nobody else is at work
}

// NewReader is one for whoever keeps what it reads.
func NewReader() *Reader { return &Reader{memo: &memo{sums: map[memoKey][leaf]byte{}}, beside: true} }

// Each reads all the stroke's extents through one of its views, gives the pieces to the function in
// their order, and returns the digests for SealBy. A piece is good until the next one; one of zeros
// is nil, and its place says whether it is written as such. Errors: of reading, and the function's.
func (r *Reader) Each(b *Bytes, view io.ReaderAt, keep func(at block.Extent, part []byte) error) (sums [][]byte, err error) {
	for _, batch := range batches(b.Extents) {
		s, err := r.sum(b.Device, batch, view, keep)
		if err != nil {
			return nil, err
		}
		sums = append(sums, s)
	}
	return sums, nil
}

// sum hashes places and digests of the extents' bytes as the view reads them.
// Zeros count alike whether they are stored or a hole.
func (r *Reader) sum(disk string, extents []block.Extent, view io.ReaderAt, keep func(at block.Extent, part []byte) error) ([]byte, error) {
	h := sha256.New()
	for _, e := range extents {
		if block.KnownZero(view, e.Off, e.Len) { // of terabytes, without a look at each piece
			if err := keep(e, nil); err != nil {
				return nil, err
			}
			for at := int64(0); at < e.Len; at += piece {
				writeHead(h, e.Off+at, min(e.Len-at, piece), 0)
			}
			continue
		}
		for at := int64(0); at < e.Len; {
			n := min(e.Len-at, piece)
			part, held, err := r.bytesOf(view, e.Off+at, n)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", disk, err)
			}
			digest := r.digest(part, held)
			if err := keep(block.Extent{Off: e.Off + at, Len: n, Zero: e.Zero}, part); err != nil {
				return nil, err
			}
			writeHead(h, e.Off+at, n, len(part))
			if len(part) > 0 {
				inner := digest()
				h.Write(inner[:])
			}
			at += n
		}
	}
	return h.Sum(nil), nil
}

// writeHead hashes where a piece is, how long, and whether it is anything but zeros.
func writeHead(h hash.Hash, off, n int64, held int) {
	var head [17]byte
	binary.BigEndian.PutUint64(head[0:], uint64(off))
	binary.BigEndian.PutUint64(head[8:], uint64(n))
	head[16] = byte(min(held, 1))
	h.Write(head[:])
}

// digest gives what tells the digest of a piece. A long one is worked out beside what is done with it
// meanwhile.
func (r *Reader) digest(part []byte, held bool) func() [leaf]byte {
	of := func() [leaf]byte {
		if held {
			return r.memo.digest(part)
		}
		return blake3.Sum256(part)
	}
	if !r.beside || len(part) < piece/16 {
		return of
	}
	done := make(chan [leaf]byte, 1)
	go func() { done <- of() }()
	return func() [leaf]byte { return <-done }
}

// bytesOf gives the bytes of the range, none where all are zero, and whether
// they are the view's own.
func (r *Reader) bytesOf(view io.ReaderAt, off, n int64) (part []byte, held bool, err error) {
	if block.KnownZero(view, off, n) {
		return nil, false, nil
	}
	part = block.HeldBytes(view, off, n)
	held = part != nil
	if !held {
		if int64(len(r.buf)) < n {
			r.buf = make([]byte, n)
		}
		part = r.buf[:n]
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
