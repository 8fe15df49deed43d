package xfs

import (
	"encoding/binary"

	"github.com/google/uuid"

	"fundus/core/block"
)

// The log's sectors have 512 bytes, whatever the device's; a header of it describes so many
// bytes behind it.
const (
	logSector  = 512
	headerSpan = 32 << 10
	logMagic   = 0xFEEDBABE

	endingFlag = 0x20 // of an operation: the file system was unmounted
	// Who wrote an operation: the log itself.
	clientLog  = 0xAA
	firstCycle = 1
)

// ending is the one record of a log that ended in order (struct xlog_rec_header), in the
// given cycle. It fills whole units: of a shorter one the rest would look torn at the second
// mount.
func ending(id uuid.UUID, unit, cycle uint32) []byte {
	be := binary.BigEndian
	// A header has room for the cycles of 64 sectors. Longer records have further headers behind
	// the first, which are counted by the size of the buffer that the writer says it had, whether
	// or not they are needed.
	size := max(headerSpan, unit)
	headers := (size + headerSpan - 1) / headerSpan
	whole := uint32(2 * logSector)
	if unit > 1 {
		whole = unit
	}
	b := make([]byte, whole)
	// Magic, cycle, version of the log, and the bytes behind the headers.
	put32(b, 0, logMagic, uint64(cycle), 2, uint64(whole-headers*logSector))
	be.PutUint64(b[16:], uint64(cycle)<<32) // this record, and the oldest that counts
	be.PutUint64(b[24:], uint64(cycle)<<32)
	// Where the record before begins (there is none), and how many operations this one has.
	put32(b, 36, none32, 1)
	put32(b, 300, 1)
	copy(b[304:], id[:])
	// How large the buffer was, by which the reader counts the headers.
	put32(b, 320, uint64(size))
	for at := uint32(logSector); at < whole; at += logSector { // each sector begins with its cycle
		be.PutUint32(b[at:], cycle)
	}
	// An operation: transaction, length, client, flags. Of the ending the length is 8, and so
	// many bytes follow: a magic of its own, and zeros.
	op := b[headers*logSector:]
	const transaction = 0xB0C0D0D0
	put32(b, 44, transaction) // which the cycle stands in place of
	put32(op, 4, 8)
	op[8], op[9] = clientLog, endingFlag
	binary.LittleEndian.PutUint16(op[12:], 0x556E)
	return b
}

// logEnd is where a log ends.
type logEnd struct {
	clean  bool   // it ended in order: nothing is to be replayed
	cycle  uint32 // of its last record
	head   int64  // sector behind its last record
	record int64  // sector of that record; -1 where it was not found
}

// readLog finds the end of the log, as the kernel does (xlog_find_head in
// fs/xfs/xfs_log_recover.c of Linux): the log is written round and round, and each sector
// begins with the number of its round.
func (v *volume) readLog() (end logEnd, err error) {
	n := v.size / logSector
	end.record = -1
	if n == 0 {
		return end, nil
	}
	first, err := v.cycle(0)
	if err != nil || first == 0 { // nothing was ever written: the kernel goes on with it, and says so
		end.clean = err == nil
		return end, err
	}
	last, err := v.cycle(n - 1)
	if err != nil {
		return end, err
	}
	end = logEnd{cycle: first, head: n, record: -1}
	// Sectors are written in order, so that from the start of the log to its head all are of one
	// cycle, and from there to its end of the one before: the head is where they differ, and half
	// as many are left with each look.
	if first != last { // the first sector that is of the round before
		low, high := int64(0), n-1
		for low+1 < high {
			middle := low + (high-low)/2
			cycle, err := v.cycle(middle)
			switch {
			case err != nil:
				return end, err
			case cycle == last:
				high = middle
			case cycle == first:
				low = middle
			// A third cycle in between: what was written out of order before a crash. The kernel
			// searches on from here; for the question whether it was unmounted that is answer
			// enough.
			default:
				return end, nil // out of order: there was no unmount
			}
		}
		end.head = high
	}
	end.clean, end.record, err = v.ended(end.head)
	return end, err
}

// cycle is the round of a sector of the log; of one with a header it stands behind that's
// magic.
func (v *volume) cycle(sector int64) (uint32, error) {
	b, err := block.ReadSized(v.dev, v.log+sector*logSector, logSector, logSector)
	if err != nil {
		return 0, err
	}
	if n := binary.BigEndian.Uint32(b); n != logMagic {
		return n, nil
	}
	return binary.BigEndian.Uint32(b[4:]), nil
}

// ended reports whether the record before the head says that the file system was unmounted,
// and where it is.
func (v *volume) ended(head int64) (clean bool, record int64, err error) {
	// So far back the last record begins at most: none is longer than the largest buffer, of 256
	// KiB, and its eight headers.
	const most = (256<<10)/logSector + 8 // sectors of the longest record, and of its headers
	be, n := binary.BigEndian, v.size/logSector
	for back := int64(1); back <= min(most, n); back++ {
		at := (head - back + n) % n
		b, err := block.ReadSized(v.dev, v.log+at*logSector, logSector, logSector)
		if err != nil {
			return false, -1, err
		}
		if be.Uint32(b) != logMagic {
			continue
		}
		headers := (int64(be.Uint32(b[320:])) + headerSpan - 1) / headerSpan
		length := (int64(be.Uint32(b[12:])) + logSector - 1) / logSector
		// Only the ending is asked for: a record that ends at the head, has one operation, and is
		// of this file system. A former one's ending, still lying there, is none.
		if headers+length != back || be.Uint32(b[40:]) != 1 || uuid.UUID(b[304:320]) != v.uuid() {
			return false, at, nil
		}
		op, err := block.ReadSized(v.dev, v.log+(at+headers)%n*logSector, logSector, logSector)
		return err == nil && op[9]&endingFlag != 0, at, err
	}
	return false, -1, nil
}

// restart clears the log and begins it anew in a cycle: what is behind its one record is of
// the round before.
func (v *volume) restart(id uuid.UUID, cycle uint32) error {
	record := ending(id, binary.BigEndian.Uint32(v.super[196:]), cycle)
	if err := block.WriteBytes(v.dev, record, v.log); err != nil {
		return err
	}
	// Written by the piece and not at once: a log may have 2 GiB.
	const piece = 1 << 20
	for at := int64(len(record)); at < v.size; at += piece {
		b := make([]byte, min(piece, v.size-at))
		for i := 0; i < len(b); i += logSector {
			binary.BigEndian.PutUint32(b[i:], cycle-1)
		}
		if err := block.WriteBytes(v.dev, b, v.log+at); err != nil {
			return err
		}
	}
	return v.dev.Sync()
}
