package xfs

import (
	"context"

	"fundus/core/block"
	"fundus/core/quantity"
)

// Make writes a new XFS onto the device: the groups from the last to the first, and behind a
// sync of its own the superblock that the kernel reads. Other signatures are the caller's to
// remove.
func Make(ctx context.Context, dev block.Device, o Options) (*Layout, error) {
	l, err := Plan(quantity.Bytes(dev.Size()), dev.Geometry(), o)
	if err != nil {
		return nil, err
	}
	return l, l.write(ctx, dev)
}

// write puts the superblock last: until then nothing takes the device for a file system, and by then
// all that it speaks of has reached the disk.
func (l *Layout) write(ctx context.Context, dev block.Device) error {
	w := block.NewWriter(ctx, dev)
	all := quantity.Bytes(l.Groups)
	var primary []byte
	for done := range l.Groups {
		number := l.Groups - 1 - done
		headers, trees := l.group(number)
		at := int64(number*l.GroupBlocks) * int64(l.Block)
		if number == 0 {
			primary = headers[:l.Sector]
			w.Put(headers[l.Sector:], at+int64(l.Sector))
		} else {
			w.Put(headers, at)
		}
		for i, tree := range trees {
			w.Put(tree, at+int64(l.firstTree()+uint64(i))*int64(l.Block))
		}
		l.options.Sink.Send("groups", quantity.Bytes(done+1), all)
	}
	w.Put(l.inodes(), int64(l.chunkAt)*int64(l.Block))
	l.writeLog(w)
	w.Sync()
	w.Put(primary, 0)
	w.Sync()
	return w.Err()
}

// writeLog clears the log whole, so that no record of a former one is found in it, and begins
// it with one that says that it ended in order.
func (l *Layout) writeLog(w *block.Writer) {
	start := int64(l.LogGroup*l.GroupBlocks+l.logAt) * int64(l.Block)
	record := ending(l.options.UUID, uint32(l.logUnit), firstCycle)
	w.Put(record, start)
	w.Zero(start+int64(len(record)), int64(l.LogBlocks)*int64(l.Block)-int64(len(record)))
}
