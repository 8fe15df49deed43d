// Package image treats image files as disks of a machine, on a bench and on
// the live system alike.
package image

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// Split cuts "card.img:1" into the image and the partition's number, which is
// 0 where there is none.
func Split(word string) (path string, number int) {
	at := strings.LastIndexByte(word, ':')
	if at < 0 {
		return word, 0
	}
	n, err := strconv.Atoi(word[at+1:])
	if err != nil || n < 1 {
		return word, 0
	}
	return word[:at], n
}

// Exists reports whether the path is a regular file.
func Exists(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Other says what a path is that is neither a regular file, nor a block device, nor a
// directory in which something may be mounted; empty for those, and for what is not there.
func Other(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	switch mode := info.Mode(); {
	case mode&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeCharDevice != 0:
		return "a character device"
	case mode.IsDir() && !filepath.IsAbs(path):
		return "a directory"
	case mode.IsRegular() && info.Size() < mostText && text(path):
		return "a text file"
	}
	return ""
}

// mostText is the size from which a file is no text that anybody wrote: a disk whose first
// sector was written over with words is one still.
const mostText = 1 << 20

// text reports whether a file begins with words: an image of a disk never does, nor is one
// empty.
func text(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	begin := make([]byte, 512)
	n, err := io.ReadFull(f, begin)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return false
	}
	for _, c := range begin[:n] {
		if c < ' ' && c != '\n' && c != '\t' && c != '\r' || c == 0x7f {
			return false
		}
	}
	return true
}

// Node is the image as a disk without its content.
func Node(path string) (inventory.Node, error) {
	identity, err := oscall.FileIdentity(path)
	if err != nil {
		return inventory.Node{}, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return inventory.Node{}, err
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		return inventory.Node{}, err
	}
	geo := Geometry(path)
	size := quantity.Bytes(info.Size() / geo.Logical * geo.Logical)
	n := inventory.Node{Name: path, Path: abs, Form: inventory.Image, Size: size, Geometry: geo,
		Identity: inventory.Identity{Disk: identity, Size: size, Sector: 512}, Hardware: inventory.Hardware{Bus: "image"}}
	n.Hardware.ReadOnly = info.Mode().Perm()&0o222 == 0
	return n, nil
}

// Scan reads the image into nodes.
func Scan(ctx context.Context, path string) (nodes []inventory.Node, err error) {
	look := func() []inventory.Node {
		n, errNode := Node(path)
		dev, errOpen := Open(path)
		if err = cmp.Or(errNode, errOpen); err != nil {
			return nil
		}
		defer dev.Close()
		return scan.Disk(n, dev)
	}
	nodes = machine.Undisturbed(ctx, look, func() string { return oscall.LockedBy(path) })
	return nodes, err
}

// Open opens the image for reading.
func Open(path string) (block.Device, error) { return file.Open(path, false, Geometry(path)) }

// Geometry is that of the disk that the image was taken of. The identity of an image
// does not depend on it, since a table comes and goes.
func Geometry(path string) block.Geometry {
	f, err := os.Open(path)
	if err != nil {
		return block.DefaultGeometry
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return block.DefaultGeometry
	}
	return scan.ImageGeometry(f, info.Size())
}

// Claim opens the image for writing and locks it. It refuses an image that
// somebody else has locked or that a loop device carries.
func Claim(path string, geo block.Geometry) (*file.File, error) {
	if loop := oscall.LoopOf(oscall.SysBlock, "/dev", path); loop != "" {
		return nil, &machine.Refusal{
			Rule:  machine.RuleMounted,
			Thing: path,
			Text:  "it is carried by the loop device " + loop,
			Next:  way.ByHand("release that loop device first, or work on /dev/" + loop),
		}
	}
	dev, err := file.Open(path, true, geo)
	if errors.Is(err, fs.ErrPermission) {
		return nil, &machine.Refusal{
			Rule:  machine.RuleReadOnly,
			Thing: path,
			Text:  "you may not write to it",
			Next:  way.ByHand("run as its owner, or as root"),
		}
	}
	if err != nil {
		return nil, err
	}
	if err := dev.Lock(); err != nil {
		dev.Close()
		if errors.Is(err, file.ErrLocked) {
			return nil, &machine.Refusal{
				Rule:  machine.RuleMounted,
				Thing: path,
				Text:  "another process has locked it",
				Next:  way.ByHand("wait for it to end, then run the command again"),
			}
		}
		return nil, err
	}
	return dev, nil
}
