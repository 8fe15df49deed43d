package ext

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
	"fundus/core/refused"
)

// Copies looks for the copies of the superblock in the first groups that have one.
// It gives how many say the same of size and UUID, at how many places it looked,
// and whether the superblock at byte 1024 is the first one, no copy itself.
//
// A disk that is searched for lost file systems has every copy as a candidate of its own:
// what tells them apart is that a copy knows the group that it stands in.
func Copies(dev block.Device) (same, looked int, first bool) {
	s, err := Read(dev)
	if err != nil || s.disk.GroupNumber != 0 {
		return 0, 0, false
	}
	agreeing, looked := s.agreeing(dev, 3)
	return len(agreeing), looked, true
}

// agreeing lists where copies say the same of size and UUID, of as many places as are looked
// at.
func (s *Superblock) agreeing(dev block.Device, most int) (at []int64, looked int) {
	for _, b := range s.Backups() {
		if looked == most {
			break
		}
		looked++
		off, ok := quantity.Count(b).Times(s.BlockSize)
		if !ok {
			continue
		}
		raw, err := block.ReadSized(dev, int64(off), superSize, superSize)
		var c super
		if err == nil && field.Decode(raw, binary.LittleEndian, &c) == nil && c.UUID == s.disk.UUID && c.Magic == magicExt &&
			c.BlocksLo == s.disk.BlocksLo {
			at = append(at, int64(off))
		}
	}
	return at, looked
}

// Remains looks for what is left of a file system whose first superblock is gone: for copies
// where the first groups that have one begin, with blocks of every size. Nil where there are
// none. A copy of an earlier file system looks the same: whoever asks has found nothing else.
func Remains(dev block.Device) *fs.Remains {
	for _, group := range []int64{1, 3} {
		for log := range 7 {
			size := int64(1024) << log
			at := group * 8 * size * size
			if size == 1024 { // the first group begins with block 1
				at += size
			}
			s, err := readAt(dev, at)
			if err != nil || int64(s.BlockSize) != size || int64(s.disk.GroupNumber) != group || s.disk.LogBlock != uint32(log) {
				continue
			}
			if off, ok := s.copyOffset(); ok && off == at {
				return s.remains(dev)
			}
		}
	}
	return nil
}

// copyOffset is how many bytes behind the beginning of its file system this copy of the
// superblock lies; false where it is none.
func (s *Superblock) copyOffset() (int64, bool) {
	first := s.FirstData + uint64(s.disk.GroupNumber)*uint64(s.BlocksPerGroup)
	off, ok := quantity.Count(first).Times(s.BlockSize)
	return int64(off), ok && s.disk.GroupNumber != 0
}

// mostCopies is how many copies are looked at: a file system of 1 TiB has 18.
const mostCopies = 24

func (s *Superblock) remains(dev block.Device) *fs.Remains {
	at, looked := s.agreeing(dev, mostCopies)
	r := &fs.Remains{Content: *s.content(), Copies: at, Looked: looked}
	r.Content.State, r.Content.Super, r.Content.Signatures = fs.Damaged, extent.Span{}, nil
	if len(at) > 0 {
		r.Option = fmt.Sprintf("sb=%d", at[0]/1024)
	}
	return r
}

// Begun is how many bytes before the device the file system begins of which a copy lies at byte
// 1024; false where there is no copy.
func Begun(dev block.Device) (before int64, ok bool) {
	s, err := Read(dev)
	if err != nil {
		return 0, false
	}
	off, ok := s.copyOffset()
	return off - superOffset, ok
}

// AtOther is what lies on the device by the superblock at a number of blocks of 1 KiB, as the
// mount option sb has it. Errors are the superblock's.
//
// Source: ext4_load_super in fs/ext4/super.c.
func AtOther(dev block.Device, number string) (*fs.Content, error) {
	n, err := strconv.ParseUint(number, 0, 32)
	if err != nil {
		return nil, fmt.Errorf("%s: no number of a block of 1 KiB", number)
	}
	s, err := readAt(dev, int64(n)*1024)
	if errors.Is(err, field.ErrMagic) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, refused.As(refused.NothingThere, fmt.Errorf("no superblock of an ext is at byte %d", int64(n)*1024))
	}
	if err != nil {
		return nil, err
	}
	return s.content(), nil
}
