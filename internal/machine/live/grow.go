package live

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"slices"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/block/file"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/internal/machine"
)

// The kernel's requests of a mounted file system: EXT4_IOC_RESIZE_FS of fs/ext4/ext4.h with a
// number of blocks; of fs/xfs/libxfs/xfs_fs.h XFS_IOC_FSGROWFSDATA with a number of blocks and
// the percentage of inodes, and XFS_IOC_FSGEOMETRY_V1, which says both as they are.
const (
	resizeBlocks  = 1<<30 | 8<<16 | 'f'<<8 | 16
	growData      = 1<<30 | 16<<16 | 'X'<<8 | 110
	geometry      = 2<<30 | geometrySize<<16 | 'X'<<8 | 100
	geometrySize  = 112
	inodesPercent = 28 // bytes into the geometry
	dataBlocks    = 32
)

// grow has the kernel make a mounted file system larger, and measures what came of it: it
// reports success where it did less than it was asked for.
func (m *Machine) grow(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	n, _ := v.Node(a.Device)
	c, _ := n.Content()
	k, _ := kind.Of(c)
	if has, err := deviceSize(n); err != nil {
		return err
	} else if has < a.Length {
		return &machine.LaterError{
			Action: a,
			Why:    fmt.Sprintf("the kernel has the device with %d bytes still", has),
			Then:   fmt.Sprintf("the next boot makes that larger; then: fundus resize %s max", n.Name),
		}
	}
	mounts := machine.Mounts(v, n.Name)
	f, err := m.openMount(n, mounts)
	if err != nil {
		return err
	}
	defer f.Close()
	mark := m.markLog()
	defer mark.close()
	g := mounting{source: n.Path, where: mounts[0].Where, typ: mounts[0].Kind}
	errGrow := mark.explain(g, request(f, k.Growing.Call, a.Length, c.BlockSize))
	got, err := m.measured(f, n, k)
	switch {
	case err != nil:
		return errors.Join(errGrow, err)
	case got == a.Length: // also where it says that something failed afterwards
		errGrow = nil
	case got > c.Size:
		text := fmt.Sprintf("it has %d bytes now (%v), and %d were predicted", got, got, a.Length)
		if errGrow != nil {
			text += "; the kernel says: " + errGrow.Error()
		}
		errGrow = &machine.ShortError{Action: a, Text: text}
	case errGrow == nil:
		errGrow = fmt.Errorf("the kernel did nothing, and says that it did: it has %d bytes", got)
	}
	m.announce(v, n.Name)
	if err := m.Settle(ctx, []string{n.Disk()}); err != nil && !errors.Is(err, ErrSettle) {
		return errors.Join(errGrow, err)
	}
	return errGrow
}

func request(f *os.File, call kind.GrowCall, size, block quantity.Bytes) error {
	b, number := make([]byte, 16), uintptr(resizeBlocks)
	if call == kind.GrowData {
		var now [geometrySize]byte
		if err := ioctl(f, geometry, now[:]); err != nil {
			return err
		}
		number, block = growData, quantity.Bytes(binary.NativeEndian.Uint32(now[:]))
		copy(b[8:], now[inodesPercent:][:4])
	}
	binary.NativeEndian.PutUint64(b, uint64(size/block))
	return ioctl(f, number, b)
}

func ioctl(f *os.File, number uintptr, argument []byte) error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), number, uintptr(unsafe.Pointer(&argument[0]))); errno != 0 {
		return errno
	}
	return nil
}

// measured is the size of the mounted file system. One keeps its superblock in a log for a
// while, and is asked; the other's is what is read from the device.
func (*Machine) measured(f *os.File, n inventory.Node, k kind.Kind) (quantity.Bytes, error) {
	if k.Growing.Call == kind.GrowData {
		return sizeByGeometry(f)
	}
	dev, err := file.Open(n.Path, false, n.Geometry) // the node on which the kernel has it
	if err != nil {
		return 0, err
	}
	defer dev.Close()
	c, err := k.Probe(dev)
	if err != nil || c == nil {
		return 0, errors.Join(err, fmt.Errorf("%s: it is not recognised any more", n.Name))
	}
	return c.Size, nil
}

func deviceSize(n inventory.Node) (quantity.Bytes, error) {
	dev, err := file.Open(n.Path, false, n.Geometry)
	if err != nil {
		return 0, err
	}
	return quantity.Bytes(dev.Size()), dev.Close()
}

func sizeByGeometry(f *os.File) (quantity.Bytes, error) {
	var now [geometrySize]byte
	if err := ioctl(f, geometry, now[:]); err != nil {
		return 0, err
	}
	return quantity.Bytes(binary.NativeEndian.Uint32(now[:])) * quantity.Bytes(binary.NativeEndian.Uint64(now[dataBlocks:])), nil
}

// mountedSizes takes the sizes of mounted file systems whose superblock the kernel writes late
// from the kernel itself.
func (m *Machine) mountedSizes(v *inventory.Inventory) {
	silent := v.Silent()
	for i := range v.Nodes {
		n := &v.Nodes[i]
		c, ok := n.Content()
		k, _ := kind.Of(c)
		mounts := machine.Mounts(v, n.Name)
		if !ok || silent[n.Name] || k.Growing == nil || k.Growing.Call != kind.GrowData || len(mounts) == 0 {
			continue
		}
		f, err := m.openMount(*n, mounts)
		if err != nil {
			continue // covered, or another's: what lies on the device is shown
		}
		size, err := sizeByGeometry(f)
		f.Close()
		if at := slices.IndexFunc(n.Contents, func(o fs.Content) bool { return o.Kind == c.Kind && o.UUID == c.UUID }); err == nil && at >= 0 {
			n.Contents[at].Size = size
		}
	}
}
