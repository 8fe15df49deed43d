package deed

import (
	"bufio"
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

// run is a piece of a unit: where it lies on the device and in its image.
type run struct {
	Off, Len int64 // bytes on the device
	Zero     bool  // reads as zeros: nothing in the image
	At, Size int64 // of the zstd frame in the image
	CRC      uint32
}

const (
	chunk      = 1 << 20 // bytes of one frame before compression
	runSize    = 37
	maxRuns    = 1 << 24 // 592 MiB of extents: 16 TiB in frames of 1 MiB
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
		r := run{Off: int64(le.Uint64(b)), Len: int64(le.Uint64(b[8:])), Zero: b[16] == 1, At: int64(le.Uint64(b[17:])), Size: int64(le.Uint64(b[25:])), CRC: le.Uint32(b[33:])}
		if r.Off < 0 || r.Len <= 0 || r.At < 0 || r.Size < 0 || !r.Zero && r.Len > chunk || b[16] > 1 {
			return nil, fmt.Errorf("extents: run at byte %d: %w", r.Off, ErrTorn)
		}
		out = append(out, r)
	}
	return out, nil
}

// imageWriter writes one image and hashes it on the way.
type imageWriter struct {
	f   *os.File
	w   *bufio.Writer
	enc *zstd.Encoder
	at  int64
}

func newImageWriter(path string) (*imageWriter, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(chunk), zstd.WithEncoderConcurrency(1))
	if err != nil {
		f.Close()
		return nil, err
	}
	return &imageWriter{f: f, w: bufio.NewWriterSize(f, 1<<20), enc: enc}, nil
}

// add stores what the view reads at the extent, in frames; zeros are not
// stored.
func (w *imageWriter) add(runs []run, view io.ReaderAt, off, n int64, zero bool) ([]run, error) {
	if zero {
		return append(runs, run{Off: off, Len: n, Zero: true}), nil
	}
	buf := make([]byte, min(n, chunk))
	for n > 0 {
		part := buf[:min(n, chunk)]
		if err := block.ReadFull(view, part, off); err != nil {
			return nil, err
		}
		r := run{Off: off, Len: int64(len(part))}
		if block.IsZero(part) {
			r.Zero = true
		} else {
			frame := w.enc.EncodeAll(part, nil)
			r.At, r.Size, r.CRC = w.at, int64(len(frame)), crc32.ChecksumIEEE(part)
			if _, err := w.w.Write(frame); err != nil {
				return nil, err
			}
			w.at += r.Size
		}
		runs = append(runs, r)
		off, n = off+int64(len(part)), n-int64(len(part))
	}
	return runs, nil
}

func (w *imageWriter) close() error {
	return errors.Join(w.w.Flush(), w.f.Sync(), w.enc.Close(), w.f.Close())
}

// imageReader gives the bytes of runs.
type imageReader struct {
	f   *os.File
	dec *zstd.Decoder
}

func newImageReader(path string) (*imageReader, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(4*chunk), zstd.WithDecoderConcurrency(1))
	if err != nil {
		f.Close()
		return nil, err
	}
	return &imageReader{f, dec}, nil
}

// read gives the bytes of a run that is not zero, checked.
func (r *imageReader) read(x run) ([]byte, error) {
	frame, err := block.ReadSized(r.f, x.At, x.Size, 2*chunk)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", r.f.Name(), err)
	}
	data, err := r.dec.DecodeAll(frame, make([]byte, 0, x.Len))
	if err != nil || int64(len(data)) != x.Len || crc32.ChecksumIEEE(data) != x.CRC {
		return nil, fmt.Errorf("%s: bytes for offset %d: %w", r.f.Name(), x.Off, ErrTorn)
	}
	return data, nil
}

func (r *imageReader) close() {
	r.dec.Close()
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
