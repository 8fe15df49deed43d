package draft

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

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
	sums, err := unitSums(p.Units(fenceStandIn()))
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

// unitSums hashes the bytes before and after each unit, as many batches at a
// time as there are processors.
func unitSums(units []Unit) ([][]byte, error) {
	var jobs []func(buf []byte) ([]byte, error)
	for _, u := range units {
		for _, batch := range batches(u.Extents) {
			for _, view := range []io.ReaderAt{u.Before, u.After} {
				jobs = append(jobs, func(buf []byte) ([]byte, error) { return sum(u.Disk, batch, view, buf) })
			}
		}
	}
	sums, errs := make([][]byte, len(jobs)), make([]error, len(jobs))
	var wait sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			buf := make([]byte, piece)
			for i := range next {
				sums[i], errs[i] = jobs[i](buf)
			}
		})
	}
	for i := range jobs {
		next <- i
	}
	close(next)
	wait.Wait()
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

// sum hashes places and bytes of the extents as the view reads them. Zeros
// count alike whether they are stored or a hole. The buffer has a piece's
// length.
func sum(disk string, extents []block.Extent, view io.ReaderAt, buf []byte) ([]byte, error) {
	h := sha256.New()
	var head [17]byte
	for _, e := range extents {
		for at := int64(0); at < e.Len; {
			part := buf[:min(e.Len-at, piece)]
			binary.BigEndian.PutUint64(head[0:], uint64(e.Off+at))
			binary.BigEndian.PutUint64(head[8:], uint64(len(part)))
			zero := block.KnownZero(view, e.Off+at, int64(len(part)))
			if !zero {
				if err := block.ReadFull(view, part, e.Off+at); err != nil {
					return nil, fmt.Errorf("%s: %w", disk, err)
				}
				zero = block.IsZero(part)
			}
			if head[16] = 1; zero {
				head[16] = 0
			}
			h.Write(head[:])
			if !zero {
				h.Write(part)
			}
			at += int64(len(part))
		}
	}
	return h.Sum(nil), nil
}

// piece is how many bytes are looked at together.
const piece = 1 << 20
