package fat

import (
	"fmt"
	"time"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/progress"
	"fundus/core/quantity"
)

// Options is what a new FAT is made with.
type Options struct {
	Bits        int            // 12, 16 or 32; 0 for what fits
	Cluster     quantity.Bytes // 0 for what fits
	Tables      int            // 1 or 2
	RootEntries int            // of FAT12 and FAT16
	Align       bool           // the clusters begin on a step of the disk
	For         int64          // the reader, as its setting has it
	Firmware    bool           // FAT32 wherever it fits, in small clusters
	Hidden      uint32         // sectors before the volume, as the boot sector says it
	Start       quantity.Bytes // where the device begins on its disk
	Label       string         // as Fit gives it
	Serial      uint32
	Time        time.Time
	Sink        progress.Sink
}

// Borders between the kinds: the number of clusters alone decides, and readers differ by a
// few around them, so that nothing is made within apart of one.
const (
	// The borders are the specification's: below 4085 clusters it is FAT12, below 65525 FAT16.
	// Some readers compare with 4086 or 65526, others count two more.
	border16 = 4085
	border32 = 65525
	apart    = 16
	// Numbers from 0x0FFFFFF7 on are marks: a bad cluster, and the end of a chain.
	mostWide  = 0x0FFFFFF5 // clusters of FAT32
	mostCount = 1<<32 - 1  // sectors
	least     = 64 << 10   // bytes
	mostUsual = 32 << 10   // bytes of a cluster; larger ones are not read everywhere
	mostAsked = 64 << 10
	// Boot sector, counts and their copies take 9 of them; 32 is what every reader has met, and
	// leaves a boot loader room.
	wideBefore = 32 // reserved sectors of FAT32, at least
	infoAt     = 1
	backupAt   = 6
)

// Layout is where everything of a new FAT goes, in sectors.
type Layout struct {
	options  Options
	Bits     int
	Sector   uint32 // bytes
	Per      uint32 // sectors of a cluster
	Total    uint32 // sectors
	Reserved uint32
	Table    uint32 // sectors of one table
	Root     uint32 // sectors of the root directory; 0 for FAT32
	Clusters uint32
	Left     uint64 // sectors of the device that are not used
}

// DataStart is the sector where the clusters begin.
func (l *Layout) DataStart() uint32 {
	return l.Reserved + uint32(l.options.Tables)*l.Table + l.Root
}

// Plan works out the layout of a device. Errors: fs.ErrTooSmall and fs.ErrTooLarge with the
// figures, fs.ErrSetting where what was asked for does not go together.
func Plan(size quantity.Bytes, geo block.Geometry, o Options) (*Layout, error) {
	sector := uint32(max(geo.Logical, 512))
	switch {
	case size < least:
		return nil, fmt.Errorf("%w: FAT takes %v at least, and this is %v", fs.ErrTooSmall, quantity.Bytes(least), size)
	case sector > 4096:
		return nil, fmt.Errorf("%w: FAT has sectors of 4096 bytes at most, and the device's have %d", fs.ErrSetting, sector)
	case uint64(size)/uint64(sector) > mostCount:
		return nil, fmt.Errorf("%w: FAT counts %d sectors: %v at most, and this is %v", fs.ErrTooLarge,
			uint64(mostCount), quantity.Bytes(mostCount)*quantity.Bytes(sector), size)
	case o.Cluster != 0 && o.Cluster < quantity.Bytes(sector):
		return nil, fmt.Errorf("%w: a cluster of %v is smaller than the device's sector of %d bytes", fs.ErrSetting, o.Cluster, sector)
	}
	total := uint32(uint64(size) / uint64(sector))
	// A layout that uses the device whole is better than a shorter one, whichever kind that is
	// of: so all are tried whole before any is made smaller.
	for _, shorter := range []bool{false, true} {
		for _, bits := range kinds(size, o) {
			for _, per := range clusters(size, sector, bits, o) {
				if l := fit(total, sector, per, bits, o, shorter); l != nil {
					return l, nil
				}
			}
		}
	}
	return nil, misfit(size, sector, o)
}

// kinds lists the kinds to be tried, the best first.
func kinds(size quantity.Bytes, o Options) []int {
	switch {
	case o.Bits != 0:
		return []int{o.Bits}
	// Firmware has to read FAT32 on a fixed disk, and FAT12 and FAT16 on removable ones alone
	// (UEFI 2.10, 13.3).
	case o.Firmware, size > 512*quantity.MiB:
		return []int{32, 16, 12}
	case size < 4*quantity.MiB:
		return []int{12, 16}
	}
	return []int{16, 32, 12}
}

// usual is the size of clusters where nobody asks: small ones waste less, large ones have
// small tables.
func usual(size quantity.Bytes, bits int, firmware bool) quantity.Bytes {
	const k, m, g = quantity.KiB, quantity.MiB, quantity.GiB
	switch {
	case firmware:
		return 4 * k
	case bits == 12:
		return 2 * k
	case bits == 16 && size <= 128*m:
		return 2 * k
	case bits == 16 && size <= 256*m:
		return 4 * k
	case bits == 16:
		return 8 * k
	case size <= 8*g:
		return 4 * k
	case size <= 16*g:
		return 8 * k
	case size <= 32*g:
		return 16 * k
	}
	return 32 * k
}

// clusters lists the sizes to be tried, in sectors, the nearest to the usual one first.
func clusters(size quantity.Bytes, sector uint32, bits int, o Options) (out []uint32) {
	if o.Cluster != 0 {
		return []uint32{uint32(o.Cluster) / sector}
	}
	first := max(uint32(usual(size, bits, o.Firmware))/sector, 1)
	for per := first; per*sector <= mostUsual; per *= 2 {
		out = append(out, per)
	}
	for per := first / 2; per > 0; per /= 2 {
		out = append(out, per)
	}
	return out
}

// fit lays a kind out with clusters of a size; nil where the number of clusters is not that
// kind's. Shorter makes one smaller that lies a little beyond the upper border: larger tables
// may keep it from being the next kind.
func fit(total, sector, per uint32, bits int, o Options, shorter bool) *Layout {
	from, to := map[int]uint64{
		12: 1,
		16: border16 + apart,
		32: border32 + apart,
	}[bits], map[int]uint64{12: border16 - apart - 1, 16: border32 - apart - 1, 32: mostWide}[bits]
	// The field has one byte, and only powers of two are allowed: 128 is the largest.
	if per == 0 || per > 128 || per&(per-1) != 0 {
		return nil
	}
	l := &Layout{options: o, Bits: bits, Sector: sector, Per: per, Total: total}
	if !l.lay() {
		return nil
	}
	// A smaller total has smaller tables, which leave more: until that comes to rest.
	for shorter && uint64(l.Clusters) > to && l.Left <= (2*apart+to/64)*uint64(per) {
		off := (uint64(l.Clusters) - to) * uint64(per)
		l.Left += off
		if l.Total -= uint32(min(off, uint64(l.Total))); !l.lay() {
			return nil
		}
	}
	n := uint64(l.Clusters)
	if n < from && o.Align && bits == 32 { // the padding may have cost the kind
		o.Align = false
		return fit(total, sector, per, bits, o, shorter)
	}
	if n < from || n > to {
		return nil
	}
	return l
}

// lay finds the tables' size, and pads until the clusters begin on the step. Each of both
// changes the other, so that it is done until nothing moves.
func (l *Layout) lay() bool {
	l.Reserved, l.Root = 1, roundUp(uint32(l.options.RootEntries)*entrySize, l.Sector)/l.Sector
	l.options.RootEntries = int(l.Root * l.Sector / entrySize) // whole sectors of them
	if l.Bits == 32 {
		l.Reserved, l.Root = wideBefore, 0
	}
	if !l.tables() {
		return false
	}
	if !l.options.Align || l.Bits != 32 {
		return true
	}
	step, first := l.step(), uint64(l.options.Start)/uint64(l.Sector)
	// Each try moves the start of the clusters by what the tables lost to it, so that one or two
	// are enough; where the step is the size of a table it may swing for ever.
	const tries = 16
	for range tries {
		off := (first + uint64(l.DataStart())) % step
		if off == 0 {
			return true
		}
		if l.Reserved += uint32(step - off); l.Reserved > 0xFFFF || !l.tables() {
			break
		}
	}
	l.Reserved = wideBefore // it does not come to rest, or costs too much
	return l.tables()
}

// step is what the clusters begin on, in sectors: 1 MiB, or less on small devices, where
// that would cost too much.
func (l *Layout) step() uint64 {
	bytes := min(1<<20, uint64(l.Total)*uint64(l.Sector)/64)
	step := uint64(1)
	for step*2*uint64(l.Sector) <= bytes {
		step *= 2
	}
	return step
}

// tables finds the smallest table that has an entry for each cluster, and two more. A larger
// one leaves fewer clusters, so that the smallest is looked for by halves.
func (l *Layout) tables() bool {
	room := uint64(l.Total) - min(uint64(l.Total), uint64(l.Reserved)+uint64(l.Root))
	count := func(table uint64) uint64 {
		return (room - min(room, uint64(l.options.Tables)*table)) / uint64(l.Per)
	}
	enough := func(table uint64) bool {
		return ((count(table)+2)*uint64(l.Bits)+7)/8 <= table*uint64(l.Sector)
	}
	from, to := uint64(1), room
	for from < to {
		if mid := from + (to-from)/2; enough(mid) {
			to = mid
		} else {
			from = mid + 1
		}
	}
	l.Table, l.Clusters = uint32(from), uint32(min(count(from), mostWide+1))
	return l.Clusters > 0 && enough(from)
}

// roundUp is the next multiple; to is never 0.
func roundUp(n, to uint32) uint32 { return (n + to - 1) / to * to }

// misfit says why nothing fits, with the size or the clusters that would.
func misfit(size quantity.Bytes, sector uint32, o Options) error {
	bits := o.Bits
	if bits == 0 {
		bits = kinds(size, o)[0]
	}
	least := quantity.Bytes(uint64(map[int]uint64{
		12: 1,
		16: border16 + apart,
		32: border32 + apart,
	}[bits])) * quantity.Bytes(max(uint32(o.Cluster), sector))
	switch {
	case o.Bits == 0 && o.Cluster != 0:
		return fmt.Errorf("%w: with clusters of %v, %v has too many or too few of them for every kind of FAT; leave the cluster out",
			fs.ErrSetting, o.Cluster, size)
	case size < least+least/64:
		words := fmt.Sprintf("FAT%d has %d clusters at least, with clusters of %v about %v; this is %v", bits,
			map[int]int{12: 1, 16: border16, 32: border32}[bits], max(o.Cluster, quantity.Bytes(sector)),
			least+least/64+quantity.MiB, size)
		if o.Cluster > quantity.Bytes(sector) {
			words += "; a smaller cluster, or none asked for, may do"
		}
		return fmt.Errorf("%w: %s", fs.ErrTooSmall, words)
	}
	return fmt.Errorf("%w: FAT%d has %d clusters at most, and %v of %v at most would be more; another kind fits",
		fs.ErrTooLarge, bits, map[int]int{12: border16 - 1, 16: border32 - 1, 32: mostWide}[bits], size,
		max(o.Cluster, mostUsual))
}
