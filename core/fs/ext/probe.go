package ext

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Probe recognises ext2, ext3, ext4 and their external journals by the
// superblock at byte 1024. It gives nil where there is none. A superblock with
// the signature that breaks another rule is shown as damaged.
//
// Two bytes of magic are little: a superblock is believed when its figures fit each other
// and, from metadata_csum on, when it sums up. One that does not is still ext4 that
// somebody may want back, so it is shown as damaged, and never as empty space.
func Probe(dev block.Device) (*fs.Content, error) {
	if dev.Size() < superOffset+superSize {
		return nil, nil
	}
	s, err := Read(dev)
	place := extent.Span{Start: superOffset, Count: superSize}
	signature := []extent.Span{{Start: superOffset + uint64(field.At(super{}, "Magic")), Count: 2}}
	if errors.Is(err, field.ErrMagic) {
		return nil, nil
	}
	var broken *field.Error
	if errors.As(err, &broken) {
		return &fs.Content{Kind: "ext4", Class: fs.FileSystem, State: fs.Damaged, Super: place, Signatures: signature,
			Facts: []fs.Fact{{Name: "damage", Value: broken.Error()}}}, nil
	}
	if err != nil {
		return nil, err
	}
	c := s.content()
	c.Super, c.Signatures = place, signature
	return c, nil
}

// content is what the superblock says.
func (s *Superblock) content() *fs.Content {
	c := &fs.Content{Kind: s.Kind(), Class: fs.FileSystem, Label: s.Label, Size: s.Size(), BlockSize: s.BlockSize,
		State: s.FileState(), Unknown: s.Unknown(), HasUsage: true}
	if s.UUID != uuid.Nil {
		c.UUID = s.UUID.String()
	}
	if c.Kind == "ext journal" {
		c.Class, c.HasUsage = fs.Member, false
	} else { // one driver mounts all three: by its own name each, and as ext4
		c.Types, c.Pass, c.Grows, c.NoJournal = slices.Compact([]string{c.Kind, "ext4"}), 2, true, s.Compat&compatJournal == 0
	}
	if used, ok := (s.Blocks - s.Free).Times(s.BlockSize); ok {
		c.Used = used
	}
	if most := s.maxMounts(); most > 0 && int(s.MountCount) >= most {
		c.Due = fmt.Sprintf("mounted %d times since its last check, %d are allowed", s.MountCount, most)
	}
	if s.CheckEvery > 0 {
		c.CheckBy = s.Checked.Add(time.Duration(s.CheckEvery) * time.Second)
	}
	c.Stripe = s.stripe()
	c.Facts = s.facts()
	c.Features, _ = s.features()
	return c
}

// facts answers what is asked of a file system: what room there is, for how many files, how
// it is laid out, what it uses, and what became of it.
func (s *Superblock) facts() []fs.Fact {
	reserved, _ := s.Reserved.Times(s.BlockSize)
	free, _ := s.Free.Times(s.BlockSize)
	return []fs.Fact{
		{Name: "space", Value: fmt.Sprintf("%v of %v free: %d of %d blocks, as recorded", free, s.Size(), s.Free, s.Blocks)},
		{
			Name: "reserved",
			Value: fmt.Sprintf("%v of that for %s: %d blocks, %.1f%% of all", reserved, owner(s.disk.ReserveUser),
				s.Reserved, 100*float64(s.Reserved)/float64(s.Blocks)),
		},
		{
			Name: "files",
			Value: fmt.Sprintf("%d of %d inodes free, %d bytes each; one for each %v", s.FreeInodes, s.Inodes,
				s.InodeSize, s.Size()/quantity.Bytes(max(1, s.Inodes))),
		},
		{
			Name: "shape",
			Value: fmt.Sprintf("%d blocks × %d bytes = %d bytes, in %d groups of %d blocks and %d inodes", s.Blocks,
				s.BlockSize, s.Size(), s.Groups(), s.BlocksPerGroup, s.InodesPerGroup),
		},
		{Name: "copies", Value: copiesOf(backupGroups(s.Groups(), s.RO&roSparseSuper != 0), s.Backups(), s.BlockSize)},
		{Name: "uses", Value: strings.Join(s.Features(), ", ")},
		{Name: "history", Value: s.history()},
	}
}

// owner is who may use the reserve. Numbers alone: the users of this machine need not be those
// of the file system.
func owner(user uint16) string {
	if user == 0 {
		return "root"
	}
	return fmt.Sprintf("user %d", user)
}

// history is when it was made and last mounted, and how often since its last check. A time
// that is not recorded is left out.
func (s *Superblock) history() string {
	const form = "2006-01-02 15:04:05 UTC"
	var words []string
	if !s.Made.IsZero() {
		words = append(words, "made "+s.Made.Format(form))
	}
	if !s.Mounted.IsZero() {
		words = append(words, strings.TrimSuffix("last mounted "+s.Mounted.Format(form)+" at "+s.LastMounted, " at "))
	}
	return strings.Join(append(words, fmt.Sprintf("mounts since its last check: %d", s.MountCount)), "; ")
}
