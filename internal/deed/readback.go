package deed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync"

	"fundus/core/block"
	"fundus/core/block/file"
)

// ErrReadBack says that the medium holds something else than was written.
var ErrReadBack = errors.New("reading back gives other bytes than were written")

// backReader is a device that can read past the page cache, from several
// goroutines at a time.
type backReader interface {
	ReadBack(p []byte, off int64) (direct bool, err error)
}

// page is what direct I/O is aligned to.
const page = 4096

// segment is what one read compares.
type segment struct {
	off, n int64
	want   []byte // nil for zeros
	buf    []byte // goes back to be filled again
}

// readers is how many reads are under way together: small ones far apart wait for the
// medium more than they move.
const readers = 4

// compared is how many bytes are compared together. Five pieces wait and four are read at a time:
// with larger ones, memory that nobody touched yet costs more than the calls that are saved.
const compared = 256 << 10

// spare are buffers that one stroke after the other uses: clearing new ones would take
// longer than what small strokes read.
type spare struct {
	wanted chan []byte     // to be filled with what must be there
	found  [readers][]byte // of each reader
}

func newSpare() *spare {
	s := &spare{wanted: make(chan []byte, readers+1)}
	for range cap(s.wanted) {
		s.wanted <- nil // it grows with what is put into it
	}
	return s
}

// readBack compares the runs with what the medium holds, past the page cache
// where the device can do that; it reports false where it had to go without
// direct I/O.
func readBack(ctx context.Context, dev block.Device, runs []run, image *imageReader, s *spare) (direct bool, err error) {
	work, free := make(chan segment), s.wanted
	results := make([]checker, readers)
	var wait sync.WaitGroup
	past, ok := dev.(backReader)
	for i := range results {
		results[i] = checker{dev: dev, past: past, direct: true, buf: s.found[i]}
		if i > 0 && !ok {
			continue // one reader for a device that may not like more
		}
		wait.Go(func() { results[i].run(work, free) })
	}
	for len(runs) > 0 && err == nil {
		var data []byte
		var n int64
		var count int
		buf := <-free
		if data, n, count, err = gather(runs, image, compared, buf); err == nil {
			err = ctx.Err()
		}
		if err != nil {
			free <- buf
			break
		}
		if data != nil {
			buf = data
		}
		work <- segment{off: runs[0].Off, n: n, want: data, buf: buf}
		runs = runs[count:]
	}
	close(work)
	wait.Wait()
	direct = true
	for i, r := range results {
		s.found[i] = r.buf
		direct, err = direct && r.direct, errors.Join(err, r.err)
	}
	return direct, err
}

// checker is one reader with its first error.
type checker struct {
	dev    block.Device
	past   backReader // nil where the device cannot
	buf    []byte
	direct bool
	err    error
}

func (c *checker) run(work <-chan segment, free chan<- []byte) {
	for s := range work {
		if c.err == nil {
			c.err = c.check(s)
		}
		free <- s.buf
	}
}

// check compares a segment; one of zeros may be longer than compared. A hole of an image file, which its
// file system knows of by its own records, is zeros without being read.
func (c *checker) check(s segment) error {
	for at, n := int64(0), int64(0); at < s.n; at += n {
		n = min(s.n-at, compared)
		if s.want == nil {
			if _, end, hole, err := c.dev.Next(s.off + at); err == nil && hole {
				n = min(s.n-at, end-s.off-at)
				continue
			}
		}
		got, err := c.read(s.off+at, n)
		if err != nil {
			return err
		}
		if s.want == nil && !block.IsZero(got) || s.want != nil && !bytes.Equal(got, s.want[at:at+n]) {
			return fmt.Errorf("byte %d: %w", s.off+at, ErrReadBack)
		}
	}
	return nil
}

func (c *checker) read(off, n int64) ([]byte, error) {
	if c.past == nil {
		return block.ReadSized(c.dev, off, n, compared)
	}
	start := off - off%page
	end := min((off+n+page-1)/page*page, c.dev.Size())
	if int64(len(c.buf)) < end-start {
		c.buf = file.AlignedBuffer(int(max(end-start, 16*page)))
	}
	buf := c.buf[:end-start]
	direct, err := c.past.ReadBack(buf, start)
	c.direct = c.direct && direct
	return buf[off-start : off-start+n], err
}
