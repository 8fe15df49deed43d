package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// loop is a loop device that carries a span of an image. The kernel releases it
// by itself when the last user lets go: after Close, when it is unmounted.
type loop struct {
	*os.File
	path string
}

// carry puts the span of the image file on a free loop device with the sector
// size. The image stays locked, shared, as long as it is carried.
//
// Source: loop(4) and include/uapi/linux/loop.h.
func (m *Machine) carry(image string, start, size quantity.Bytes, sector int64, readOnly bool) (*loop, error) {
	mode, flags := os.O_RDWR, uint32(unix.LO_FLAGS_AUTOCLEAR)
	if readOnly {
		mode, flags = os.O_RDONLY, flags|unix.LO_FLAGS_READ_ONLY
	}
	backing, err := os.OpenFile(image, mode, 0)
	if err != nil {
		return nil, err
	}
	defer backing.Close()
	if err := unix.Flock(int(backing.Fd()), unix.LOCK_SH|unix.LOCK_NB); err != nil {
		return nil, &machine.Refusal{
			Rule:  machine.RuleMounted,
			Thing: image,
			Text:  "another process has locked it",
			Next:  way.ByHand("wait for it to end, then run the command again"),
		}
	}
	config := unix.LoopConfig{Fd: uint32(backing.Fd()), Size: uint32(sector)}
	config.Info.Offset, config.Info.Sizelimit, config.Info.Flags = uint64(start), uint64(size), flags
	copy(config.Info.File_name[:len(config.Info.File_name)-1], image)
	control, err := os.OpenFile(filepath.Join(m.at.dev, "loop-control"), os.O_RDWR, 0)
	if err != nil {
		return nil, fmt.Errorf("the kernel has no loop devices: %w", err)
	}
	defer control.Close()
	for range 16 { // somebody else may take the free one first
		number, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
		if err != nil {
			return nil, fmt.Errorf("no free loop device: %w", err)
		}
		path := filepath.Join(m.at.dev, fmt.Sprintf("loop%d", number))
		f, err := os.OpenFile(path, mode, 0)
		if err != nil {
			return nil, err
		}
		err = unix.IoctlLoopConfigure(int(f.Fd()), &config)
		if err == nil {
			return &loop{f, path}, nil
		}
		f.Close()
		if !errors.Is(err, unix.EBUSY) {
			return nil, fmt.Errorf("%s: carrying %s: %w", path, image, err)
		}
	}
	return nil, fmt.Errorf("%s: every free loop device was taken by somebody else", image)
}

// mountImage mounts an image or a partition of one over a loop device.
func (m *Machine) mountImage(v *inventory.Inventory, n inventory.Node, a machine.Action) error {
	image := n
	if n.Parent != "" {
		image, _ = v.Node(n.Parent)
	}
	readOnly := n.Hardware.ReadOnly || strings.Contains(","+a.Options+",", ",ro,")
	dev, err := m.carry(image.Path, n.Start, n.Size, n.Geometry.Logical, readOnly)
	if err != nil {
		return err
	}
	defer dev.Close()
	c, _ := n.Content()
	return m.attach(mounting{dev.path, m.below(a.Where), a.MountType(c), a.Options, ""})
}

// imageUses finds where the images are mounted over loop devices.
func (m *Machine) imageUses(_ context.Context, v *inventory.Inventory) error {
	dirs, err := filepath.Glob(filepath.Join(m.at.sys, "block", "loop*"))
	if err != nil {
		return err
	}
	names := map[string]string{} // of image nodes by the numbers of what carries them
	for _, dir := range dirs {
		carried, carries := oscall.Carried(dir, m.at.dev)
		offset := number(dir, "loop/offset")
		for _, disk := range v.Disks() {
			if id, ok := oscall.IDOf(disk.Path); !carries || !ok || disk.Form != inventory.Image || id != carried {
				continue
			}
			for _, n := range v.Family(disk.Name) {
				if int64(n.Start) == offset && (n.Parent != "" || len(v.Parts(n.Name)) == 0) {
					names[attribute(dir, "dev")] = n.Name
				}
				if part := filepath.Join(dir, filepath.Base(dir)+"p"+strconv.Itoa(n.Number)); n.Number > 0 && offset == 0 {
					if dev := attribute(part, "dev"); dev != "" {
						names[dev] = n.Name
					}
				}
			}
		}
	}
	return m.mounts(v, names, nil)
}
