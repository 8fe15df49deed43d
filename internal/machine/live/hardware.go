package live

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"fundus/core/inventory"
	"fundus/core/quantity"
)

// absent are names behind which there is no disk now: an empty drive, a loop
// device that carries nothing, memory that was never written, a path of a
// multipath disk that the kernel hides.
func (d listed) absent() bool {
	name := d.node.Name
	return d.node.Size == 0 || attribute(d.dir, "hidden") == "1" || numbered(name, "ram") ||
		numbered(name, "loop") && d.node.Hardware.Backing == ""
}

// numbered reports whether the name is the prefix and a number.
func numbered(name, prefix string) bool {
	rest, ok := strings.CutPrefix(name, prefix)
	_, err := strconv.Atoi(rest)
	return ok && err == nil
}

// hardware is what sysfs says of a disk; where it says nothing of its serial
// number, udev's database may.
func (m *Machine) hardware(dir, link, dev string) inventory.Hardware {
	queue := filepath.Join(dir, "queue")
	vendor := attribute(dir, "device/vendor")
	if strings.HasPrefix(vendor, "0x") || vendor == "ATA" { // a number, or the name of the bridge
		vendor = ""
	}
	h := inventory.Hardware{Bus: bus(filepath.Base(dir), link), Vendor: vendor, Model: attribute(dir, "device/model"),
		Serial:     attribute(dir, "device/serial"),
		Rotational: attribute(queue, "rotational") == "1", Removable: attribute(dir, "removable") == "1",
		ReadOnly: attribute(dir, "ro") == "1",
		Backing:  attribute(dir, "loop/backing_file"), Discard: quantity.Bytes(number(queue, "discard_granularity")),
		WriteCache: attribute(queue, "write_cache")}
	if attribute(queue, "discard_max_bytes") == "0" {
		h.Discard = 0
	}
	if zoned := attribute(queue, "zoned"); zoned != "none" {
		h.Zoned = zoned
	}
	if state := attribute(dir, "device/state"); state != "running" && state != "live" {
		h.State = state
	}
	h.Firmware = first(attribute(dir, "device/firmware_rev"), attribute(dir, "device/fwrev"), attribute(dir, "device/rev"))
	h.WWN = first(attribute(dir, "wwid"), attribute(dir, "device/wwid"))
	h.HotPlug = h.Removable || slices.Contains([]string{"usb", "mmc"}, h.Bus)
	record := m.udevRecord(dev)
	h.Serial = first(h.Serial, attribute(dir, "serial"), record["ID_SERIAL_SHORT"]) // the second is virtio's
	h.Model = first(h.Model, attribute(dir, "device/name"), strings.ReplaceAll(record["ID_MODEL"], "_", " "))
	return h
}

func first(words ...string) string {
	for _, w := range words {
		if w != "" {
			return w
		}
	}
	return ""
}

// bus is how the disk is connected, by its name and its place in the device
// tree.
func bus(name, link string) string {
	for _, n := range [][2]string{
		{"loop", "loop"},
		{"zram", "memory"},
		{"ram", "memory"},
		{"sr", "optical"},
		{"fd", "floppy"},
		{"nbd", "network"},
	} {
		if numbered(name, n[0]) {
			return n[1]
		}
	}
	if strings.HasPrefix(name, "mmcblk") && (strings.Contains(name, "boot") || strings.Contains(name, "rpmb")) {
		return "mmc boot area"
	}
	for _, b := range [][2]string{
		{"/usb", "usb"},
		{"/nvme", "nvme"},
		{"/ata", "sata"},
		{"/mmc", "mmc"},
		{"/virtio", "virtio"},
		{"/xen", "xen"},
		{"/session", "iscsi"},
		{"/iscsi", "iscsi"},
		{"/host", "scsi"},
		{"/virtual/", "virtual"},
	} {
		if strings.Contains(link, b[0]) {
			return b[1]
		}
	}
	return ""
}

// identity is the WWN, else bus, model and serial, else the identifier of a
// volume or an array, else the place in the device tree.
func identity(dir, link string, h inventory.Hardware) string {
	if h.WWN != "" {
		return h.WWN
	}
	if h.Serial != "" {
		return strings.TrimSpace(h.Bus + " " + h.Model + " " + h.Serial)
	}
	for _, name := range []string{"dm/uuid", "md/uuid"} {
		if id := attribute(dir, name); id != "" {
			return id
		}
	}
	return link
}

// layer fills in what a device-mapper device or an array is and is built on.
func layer(dir string, n *inventory.Node) {
	entries, err := os.ReadDir(filepath.Join(dir, "slaves"))
	if err == nil {
		for _, e := range entries {
			n.BuiltOn = append(n.BuiltOn, e.Name())
		}
	}
	if name := attribute(dir, "dm/name"); name != "" {
		n.Form, n.Alias, n.Layer.Kind = inventory.Volume, name, inventory.Mapped
		for _, row := range mappedKinds() {
			if strings.HasPrefix(attribute(dir, "dm/uuid"), row.prefix) {
				n.Layer.Kind = row.kind
			}
		}
	}
	if level := attribute(dir, "md/level"); level != "" {
		number := func(name string) int { n, _ := strconv.Atoi(attribute(dir, "md/"+name)); return n }
		n.Form = inventory.Array
		n.Layer = inventory.Layer{
			Kind:    inventory.RAID,
			Level:   level,
			Of:      number("raid_disks"),
			Missing: number("degraded"),
			State:   attribute(dir, "md/array_state"),
		}
	}
}

// mappedKind is a beginning of the identifiers that the device mapper keeps, and whose it is.
type mappedKind struct {
	prefix string
	kind   inventory.LayerKind
}

// mappedKinds are those that are known.
func mappedKinds() []mappedKind {
	return []mappedKind{
		{"LVM-", inventory.Logical},
		{"CRYPT-", inventory.Opened},
		{"mpath-", inventory.Multipath},
		{"part", inventory.MappedPart},
	}
}

// links are the other paths that lead to a device: what udev made, and the
// device mapper's.
func (m *Machine) links(dev, alias string) (out []string) {
	data, err := os.ReadFile(m.udev("data/b" + dev))
	if err == nil {
		for line := range strings.Lines(string(data)) {
			if link, ok := strings.CutPrefix(strings.TrimSpace(line), "S:"); ok {
				out = append(out, filepath.Join("/dev", link))
			}
		}
	}
	if alias != "" && !slices.Contains(out, "/dev/mapper/"+alias) {
		out = append(out, "/dev/mapper/"+alias)
	}
	slices.Sort(out)
	return out
}
