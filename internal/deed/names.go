package deed

import (
	"errors"
	"fmt"
	"slices"

	"fundus/core/inventory"
	"fundus/core/refused"
	"fundus/core/scan"
	"fundus/internal/draft"
)

// ErrIdentity says that a device of a deed is not there, or twice.
var ErrIdentity = errors.New("the deed's device cannot be told")

// Names finds what each device is called now, by its identity; one that fits none or two
// is refused, and named. A partition is one of its disk, whether it is there yet or not:
// the deed may be what makes it.
func Names(v *inventory.Inventory, list []draft.Device) (map[string]string, error) {
	names := map[string]string{}
	for _, d := range list {
		disk, err := diskOf(v, d)
		if err != nil {
			return nil, err
		}
		names[d.Name] = disk.Name
		if d.Identity.Number > 0 {
			names[d.Name], _ = scan.Name(disk, d.Identity.Number)
		}
	}
	return names, nil
}

// Standing gives the deed's devices where the image stands for the one that it was about:
// one that was renamed, moved or copied. Without an image they are as they are.
func (m *Manifest) Standing(v *inventory.Inventory, image string) ([]draft.Device, error) {
	if image == "" {
		return m.Devices, nil
	}
	n, ok := v.Node(image)
	if !ok || n.Form != inventory.Image {
		return nil, fmt.Errorf("--image %s: %w: there is no such image file", image, ErrIdentity)
	}
	list, disk := slices.Clone(m.Devices), ""
	for i, d := range list {
		switch {
		case !d.Image:
			continue
		case disk != "" && disk != d.Identity.Disk:
			return nil, fmt.Errorf("--image %s: %w: deed %s is about more than one image", image, ErrIdentity, m.ID)
		}
		disk = d.Identity.Disk
		list[i].Identity.Disk, list[i].Identity.Size = n.Identity.Disk, n.Identity.Size
	}
	if disk == "" {
		return nil, fmt.Errorf("--image %s: %w: deed %s is about no image", image, ErrIdentity, m.ID)
	}
	return list, nil
}

func diskOf(v *inventory.Inventory, d draft.Device) (inventory.Node, error) {
	var found []inventory.Node
	other := "" // of the same name, or of the same disk with another size
	for _, n := range v.Disks() {
		switch {
		case n.Identity.SameDisk(d.Identity):
			found = append(found, n)
		case n.Identity.Disk == d.Identity.Disk, n.Name == d.Name:
			other = fmt.Sprintf("; %s is now %s", n.Name, n.Identity)
		}
	}
	switch {
	case len(found) > 1:
		return found[0], fmt.Errorf("%w: %s fits %s and %s; take one of them out", ErrIdentity, d.Identity, found[0].Name, found[1].Name)
	case len(found) == 0 && d.Image && other != "":
		return inventory.Node{}, refused.As(refused.WrittenSince, fmt.Errorf("%w: %s is another file now than the one that the deed wrote; where it is a copy of that: --image FILE",
			ErrIdentity, d.Name))
	case len(found) == 0 && d.Image:
		return inventory.Node{}, fmt.Errorf("%w: %s is not there; where it was moved or copied: --image FILE", ErrIdentity, d.Name)
	case len(found) == 0:
		return inventory.Node{}, fmt.Errorf("%w: %s (%s) is not on this machine%s; plug it in, then run the command again",
			ErrIdentity, d.Name, d.Identity, other)
	}
	if end := d.Identity.Start + d.Identity.Length; end > found[0].Size {
		return found[0], fmt.Errorf("%w: %s (%s) has %v now, and the deed is about what reaches to %v; give it its former size again",
			ErrIdentity, found[0].Name, d.Identity, found[0].Size, end)
	}
	return found[0], nil
}

// is refuses a device that is another one than the deed is about, right before something
// is done with it: the partition of that number may lie elsewhere by now.
func (m *Manifest) is(v *inventory.Inventory, names map[string]string, name string) error {
	for _, d := range m.Devices {
		if d.Name != name {
			continue
		}
		n, ok := v.Node(names[name])
		if !ok {
			return fmt.Errorf("%w: %s (%s) is not on this machine", ErrIdentity, names[name], d.Identity)
		}
		if n.Identity.Number != d.Identity.Number || n.Identity.Start != d.Identity.Start || !n.Identity.SameDisk(d.Identity) {
			return fmt.Errorf("%w: %s is now %s at byte %d, it was %s at byte %d", ErrIdentity, n.Name, n.Identity,
				n.Start, d.Identity, d.Identity.Start)
		}
	}
	return nil
}
