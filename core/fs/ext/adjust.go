package ext

import (
	"encoding/binary"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
	"fundus/core/refused"
)

// Adjust gives a file system that is not mounted other settings: those that can be set later.
// It refuses one with unknown features, a journal to be replayed, or errors recorded.
// Errors: fs.ErrNoSetting, fs.ErrFixed, fs.ErrSetting, fs.ErrUnsupported.
func Adjust(dev block.Device, wishes fs.Wishes) error {
	s, err := sound(dev)
	if err != nil {
		return err
	}
	was, err := s.options(dev)
	if err != nil {
		return err
	}
	o := was
	if err := fs.TakeLater(options(o.Variant), &o, wishes); err != nil {
		return err
	}
	if err := s.checkAdjusted(was, o, wishes); err != nil {
		return err
	}
	// Before the superblock: cut in between, its blocks are free and the superblock names an
	// inode that is empty, which the kernel refuses to mount, and undo and recovery put right.
	if o.Journal != was.Journal {
		if err := s.dropJournal(dev); err != nil {
			return err
		}
	}
	_, reserved := wishes["reserved"]
	return s.everywhere(dev, func(d *super) {
		mounts := d.MaxMounts // of which several mean never
		if d.wish(&o); o.Checks.AfterMounts == was.Checks.AfterMounts {
			d.MaxMounts = mounts
		}
		if reserved {
			d.ReservedLo, d.ReservedHi = halves(o.Reserved.Of(uint64(s.Blocks), s.BlockSize))
		}
		if o.LargeDirectories {
			d.Incompat |= incompatLargeDir
		}
		if o.Seed {
			s.seedIn(d)
		}
		if o.Journal == 0 {
			d.forgetJournal()
		}
	})
}

// checkAdjusted refuses what does not go together, or has no way back.
func (s *Superblock) checkAdjusted(was, o Options, wishes fs.Wishes) error {
	bad := func(key, format string, args ...any) error {
		return fmt.Errorf("%s=%s: %w: "+format, append([]any{key, wishes[key].Word, fs.ErrSetting}, args...)...)
	}
	switch {
	case o.Seed && !o.Checksums:
		return bad("checksum-seed", "there are no checksums")
	// More than half the kernel takes for damage, and mounts with nothing reserved.
	case o.Reserved != was.Reserved && o.Reserved.Of(uint64(s.Blocks), s.BlockSize) > uint64(s.Blocks)/2:
		return bad("reserved", "it is at most half of the space, of %v", s.Size())
	}
	if o.MountDefaults != was.MountDefaults || o.Journal != was.Journal { // options may need what goes
		if err := checkDefaults(o.Variant.String(), o.MountDefaults, o.Journal != 0); err != nil {
			return err
		}
	}
	if o.Unit != was.Unit || o.Width != was.Width {
		return checkStripe(o.Unit, o.Width, s.BlockSize)
	}
	return nil
}

// SetUUID gives a file system that is not mounted another identifier. Where checksums hang on
// the identifier they keep the one of before as their seed, which Linux knows since 4.4; the
// older ones of the descriptors alone are computed anew.
func SetUUID(dev block.Device, id uuid.UUID) error {
	s, err := sound(dev)
	if err != nil {
		return err
	}
	if err := s.mayChangeUUID(); err != nil {
		return err
	}
	if s.RO&roDescCsum != 0 && !s.hasChecksum() {
		if err := s.sealDescriptors(dev, id); err != nil {
			return err
		}
	}
	return s.identify(dev, id)
}

func (s *Superblock) mayChangeUUID() error {
	if s.Compat&compatStableInodes != 0 {
		return fmt.Errorf("%w: the keys of its encrypted files depend on the UUID", fs.ErrUnsupported)
	}
	return nil
}

// MarkIdentified changes the identifier as the kernel does for a mounted file system. It is
// for simulated machines.
func MarkIdentified(dev block.Device, id uuid.UUID) error {
	s, err := Read(dev)
	if err != nil {
		return err
	}
	return s.identify(dev, id)
}

func (s *Superblock) identify(dev block.Device, id uuid.UUID) error {
	return s.everywhere(dev, func(d *super) {
		if s.hasChecksum() {
			s.seedIn(d)
		}
		d.UUID = id
	})
}

// ChangesUUID is nil where the kernel changes the UUID of such a file system while it is
// mounted, else the reason why it does not.
func ChangesUUID(c fs.Content) error {
	switch {
	case c.Uses("COMPAT_STABLE_INODES"):
		return fmt.Errorf("the keys of its encrypted files depend on the UUID")
	case (c.Uses("METADATA_CSUM") || c.Uses("GDT_CSUM")) && !c.Uses("CSUM_SEED"):
		return refused.As(refused.InUse, fmt.Errorf("its checksums depend on the UUID; after checksum-seed=yes, which is set while it is not mounted, they do not"))
	}
	return nil
}

// seedIn lets the checksums go on from the identifier that they were made with.
func (s *Superblock) seedIn(d *super) {
	// A seed that is set already is what the checksums go by: another would make every one of
	// them wrong.
	if d.Incompat&incompatSeed == 0 {
		d.Incompat |= incompatSeed
		d.ChecksumSeed = s.seed()
	}
}

// seed is what every checksum but that of the superblock begins with.
func (s *Superblock) seed() uint32 {
	if s.Incompat&incompatSeed != 0 {
		return s.disk.ChecksumSeed
	}
	return crc(^uint32(0), s.UUID[:])
}

// everywhere changes the primary superblock and every copy that belongs to it. The primary
// one is last: it is the one that counts, and a cut leaves it whole, old or new.
func (s *Superblock) everywhere(dev block.Device, change func(*super)) error {
	for _, blockNumber := range s.Backups() {
		off := int64(blockNumber) * int64(s.BlockSize)
		copyOf, err := readAt(dev, off)
		if err != nil || copyOf.UUID != s.UUID {
			continue // a stale or damaged backup stays as it is
		}
		change(&copyOf.disk)
		if err := block.WriteBytes(dev, copyOf.sealed(), off); err != nil {
			return err
		}
	}
	if err := dev.Sync(); err != nil {
		return err
	}
	change(&s.disk)
	if err := block.WriteBytes(dev, s.sealed(), superOffset); err != nil {
		return err
	}
	return dev.Sync()
}

// sound is a file system that other settings can be given to.
func sound(dev block.Device) (*Superblock, error) {
	s, err := writable(dev)
	if err != nil {
		return nil, err
	}
	// What recorded errors may have wrong anywhere; a change over it would be taken for part of
	// what was in order.
	if state := s.FileState(); state != fs.Clean {
		return nil, fmt.Errorf("%s: it is to be checked first", state)
	}
	if s.Incompat&(incompatJournalDev|incompatMMP) != 0 {
		return nil, fmt.Errorf("%w: a journal of another file system, or a guard against two mounts", fs.ErrUnsupported)
	}
	return s, nil
}

// crc16 is that of descriptors with the older checksum: the polynomial 0x8005, lowest bit
// first (lib/crc16.c of Linux).
func crc16(sum uint16, p []byte) uint16 {
	for _, b := range p {
		sum ^= uint16(b)
		for range 8 {
			sum = sum>>1 ^ 0xA001*(sum&1)
		}
	}
	return sum
}

// sealDescriptor computes the checksum in the bytes of a group's descriptor.
func (s *Superblock) sealDescriptor(b []byte, group uint64, id uuid.UUID, at int) {
	le := binary.LittleEndian
	var four [4]byte
	number := le.AppendUint32(four[:0], uint32(group))
	le.PutUint16(b[at:], 0)
	switch {
	case s.hasChecksum():
		le.PutUint16(b[at:], uint16(crc(crc(s.seed(), number), b)))
	case s.RO&roDescCsum != 0:
		sum := crc16(crc16(crc16(^uint16(0), id[:]), number), b[:at])
		if s.Incompat&incompat64Bit != 0 {
			sum = crc16(sum, b[at+2:])
		}
		le.PutUint16(b[at:], sum)
	}
}

// Alike says in words of mount options what a setting does for one mount; "" where none does.
func Alike(v fs.Value) string {
	switch v.Key {
	case "reserved-user":
		return "resuid=" + v.Word
	case "reserved-group":
		return "resgid=" + v.Word
	case "on-error":
		return "errors=" + strings.Replace(v.Word, "read-only", "remount-ro", 1)
	case "mount-defaults":
		return strings.TrimSuffix(v.Word, "none")
	}
	return ""
}

// bitmapBytes is how much of a bitmap its checksum is over.
func (s *Superblock) bitmapBytes() quantity.Bytes { return quantity.Bytes(s.BlocksPerGroup / 8) }
