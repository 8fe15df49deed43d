package deed

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"

	"fundus/core/block"
)

// run is a piece of a stroke: where it lies on the device and in its image.
type run struct {
	Off, Len int64 // bytes on the device
	Zero     bool  // reads as zeros: nothing in the image
	At, Size int64 // of the zstd frame in the image
	CRC      uint32
}

const (
	chunk      = 64 << 10 // bytes of one frame before compression
	runSize    = 37
	maxRuns    = 1 << 22 // 148 MiB of extents
	extentsTag = "FUNDUSX1"
)

// Errors of stored deeds.
var (
	ErrTorn    = errors.New("the record is damaged")
	ErrVersion = errors.New("written by a later release")
)

func (r run) append(b []byte) []byte {
	b = binary.LittleEndian.AppendUint64(b, uint64(r.Off))
	b = binary.LittleEndian.AppendUint64(b, uint64(r.Len))
	zero := byte(0)
	if r.Zero {
		zero = 1
	}
	b = append(b, zero)
	b = binary.LittleEndian.AppendUint64(b, uint64(r.At))
	b = binary.LittleEndian.AppendUint64(b, uint64(r.Size))
	return binary.LittleEndian.AppendUint32(b, r.CRC)
}

func decodeRuns(b []byte) ([]run, error) {
	if len(b) < len(extentsTag) || string(b[:len(extentsTag)]) != extentsTag || (len(b)-len(extentsTag))%runSize != 0 {
		return nil, fmt.Errorf("extents: %w", ErrTorn)
	}
	b = b[len(extentsTag):]
	out := make([]run, 0, len(b)/runSize)
	le := binary.LittleEndian
	for ; len(b) > 0; b = b[runSize:] {
		r := run{
			Off:  int64(le.Uint64(b)),
			Len:  int64(le.Uint64(b[8:])),
			Zero: b[16] == 1,
			At:   int64(le.Uint64(b[17:])),
			Size: int64(le.Uint64(b[25:])),
			CRC:  le.Uint32(b[33:]),
		}
		if r.Off < 0 || r.Len <= 0 || r.At < 0 || r.Size < 0 || !r.Zero && r.Len > chunk || b[16] > 1 {
			return nil, fmt.Errorf("extents: run at byte %d: %w", r.Off, ErrTorn)
		}
		out = append(out, r)
	}
	return out, nil
}

// imageWriter writes one image. Bytes that it has stored already, such as the
// copies of a file system's descriptors, it does not store again.
type imageWriter struct {
	f             *os.File
	w             *bufio.Writer
	enc           *zstd.Encoder
	at, limit     int64          // bytes that are stored, and may be; 0 for no limit
	stored        map[uint32]run // of this stroke, by their CRC
	part          []byte         // of a frame that has not ended, from off on
	off           int64
	other, packed []byte
	blank         []byte // a frame of zeros, which nobody writes to
}

// zeros is the longest run of zeros: whoever interrupts the writing does not wait for more.
const zeros = 32 << 20

func newImageWriter(path string) (*imageWriter, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	return &imageWriter{
		f:      f,
		w:      bufio.NewWriterSize(f, 1<<20),
		stored: map[uint32]run{},
		other:  make([]byte, chunk),
		blank:  make([]byte, chunk),
	}, nil
}

// put takes the next bytes of a stroke, in their order, and adds to its runs; zeros without a part
// are not stored. They are cut into frames that end on multiples of their size, whatever pieces
// they come in.
func (w *imageWriter) put(runs []run, view io.ReaderAt, at block.Extent, part []byte) (out []run, err error) {
	off, n := at.Off, at.Len
	if part == nil && !at.Zero && n < chunk { // in the midst of data: one write, not three
		part = w.blank[:n]
	}
	if len(w.part) > 0 && (part == nil || off != w.off+int64(len(w.part))) {
		if runs, err = w.ended(runs, view); err != nil {
			return nil, err
		}
	}
	if part == nil {
		if last := len(runs) - 1; last >= 0 && runs[last].Zero && runs[last].Off+runs[last].Len == off {
			more := min(n, max(zeros-runs[last].Len, 0))
			runs[last].Len, off, n = runs[last].Len+more, off+more, n-more
		}
		for ; n > 0; off, n = off+zeros, n-zeros {
			runs = append(runs, run{Off: off, Len: min(n, zeros), Zero: true})
		}
		return runs, nil
	}
	for len(part) > 0 {
		size := min(len(part), int(chunk-off%chunk))
		whole := size == int(chunk-off%chunk)
		switch {
		case whole && len(w.part) == 0:
			runs, err = w.frame(runs, off, part[:size], view)
		default:
			if len(w.part) == 0 {
				w.off = off
			}
			if w.part = append(w.part, part[:size]...); whole {
				runs, err = w.ended(runs, view)
			}
		}
		if err != nil {
			return nil, err
		}
		off, part = off+int64(size), part[size:]
	}
	return runs, nil
}

// ended stores what no frame was made of yet.
func (w *imageWriter) ended(runs []run, view io.ReaderAt) ([]run, error) {
	if len(w.part) == 0 {
		return runs, nil
	}
	runs, err := w.frame(runs, w.off, w.part, view)
	w.part = w.part[:0]
	return runs, err
}

// frame stores the bytes, unless the view has the very same at a place that was
// stored before.
func (w *imageWriter) frame(runs []run, off int64, part []byte, view io.ReaderAt) ([]run, error) {
	r := run{Off: off, Len: int64(len(part)), Zero: block.IsZero(part)}
	if r.Zero {
		return append(runs, r), nil
	}
	r.CRC = crc32.ChecksumIEEE(part)
	if same, ok := w.stored[r.CRC]; ok && same.Len == r.Len {
		other := w.other[:r.Len]
		if err := block.ReadFull(view, other, same.Off); err != nil {
			return nil, err
		}
		if bytes.Equal(part, other) {
			r.At, r.Size = same.At, same.Size
			return append(runs, r), nil
		}
	}
	if w.enc == nil { // an image of zeros alone needs none
		var err error
		if w.enc, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(chunk),
			zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false)); err != nil { // each run has its own
			return nil, err
		}
	}
	w.packed = w.enc.EncodeAll(part, w.packed[:0])
	r.At, r.Size = w.at, int64(len(w.packed))
	w.at += r.Size
	if w.limit > 0 && w.at > w.limit {
		return nil, ErrLimit
	}
	w.stored[r.CRC] = r
	_, err := w.w.Write(w.packed)
	return append(runs, r), err
}

// next forgets what was stored: another stroke's view reads other bytes at the
// same places.
func (w *imageWriter) next() { clear(w.stored) }

func (w *imageWriter) close() error {
	var err error
	if w.enc != nil {
		err = w.enc.Close()
	}
	return errors.Join(err, w.w.Flush(), w.f.Sync(), w.f.Close())
}

// imageReader gives the bytes of runs. It keeps the frames that it decoded last,
// since the same frame may serve many runs.
type imageReader struct {
	f      *os.File
	dec    *zstd.Decoder
	recent map[int64][]byte // by their place in the image
	spare  [][]byte         // of those that are kept no longer
}

const (
	maxRecent = 32 // frames: 2 MiB, which a processor keeps at hand
	slack     = 64 // bytes behind a frame's, with which the decoder need not look where it ends
)

func newImageReader(path string) (*imageReader, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return &imageReader{f: f, recent: map[int64][]byte{}}, nil
}

// read gives the bytes of a run that is not zero, checked. They are shared, and good until the next
// one is read: the caller does not change them.
func (r *imageReader) read(x run) ([]byte, error) {
	data, known := r.recent[x.At]
	if !known {
		frame, err := block.ReadSized(r.f, x.At, x.Size, 2*chunk)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", r.f.Name(), err)
		}
		if r.dec == nil {
			if r.dec, err = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(4<<20), zstd.WithDecoderConcurrency(1), zstd.IgnoreChecksum(true)); err != nil {
				return nil, err
			}
		}
		if len(r.recent) >= maxRecent {
			for _, old := range r.recent {
				r.spare = append(r.spare, old)
			}
			clear(r.recent)
		}
		var into []byte
		if n := len(r.spare); n > 0 {
			into, r.spare = r.spare[n-1][:0], r.spare[:n-1]
		} else {
			into = make([]byte, 0, chunk+slack)
		}
		if data, err = r.dec.DecodeAll(frame, into); err != nil || crc32.ChecksumIEEE(data) != x.CRC {
			return nil, fmt.Errorf("%s: bytes for offset %d: %w", r.f.Name(), x.Off, ErrTorn)
		}
		r.recent[x.At] = data
	}
	if int64(len(data)) != x.Len {
		return nil, fmt.Errorf("%s: bytes for offset %d: %w", r.f.Name(), x.Off, ErrTorn)
	}
	return data, nil
}

func (r *imageReader) close() {
	if r.dec != nil {
		r.dec.Close()
	}
	r.f.Close()
}

// fileDigest is the SHA-256 of a file.
func fileDigest(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
