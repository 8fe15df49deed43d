package bench

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/boot"
	"fundus/core/extent"
	corefs "fundus/core/fs"
	"fundus/core/fs/ext"
	"fundus/core/fs/fat"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/table/gpt"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// Types of the partitions of a system disk: a root on x86-64, and that from which firmware
// starts (Discoverable Partitions Specification).
const (
	linuxRoot = "4f68bce3-e8cd-4db1-96e7-fbcaf984b709"
	efiSystem = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"
)

// ErrNotEmpty is a directory in which there is something.
var ErrNotEmpty = errors.New("it is not empty")

// Layout says how the system disk of a new bench is divided.
type Layout struct {
	RootLast bool // the root lies behind the partition from which firmware starts, and can grow
}

// New makes a bench with a system disk from which it comes up, and switches it
// on. The directory must be missing or empty.
func New(ctx context.Context, dir, host string, layout Layout, now func() time.Time, fresh func() uuid.UUID) (*Bench, error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%s: %w, and a bench is made in a directory of its own", dir, ErrNotEmpty)
	}
	for _, sub := range []string{"disks", "root/etc", "root/mnt", "root/media", "root/tmp", "root/home/" + user, "state"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return nil, err
		}
	}
	system := Disk{
		Name:    "sda",
		Size:    "64GiB",
		Bus:     "sata",
		Model:   "Quillwort Q200",
		Serial:  "QW-11830",
		Sectors: block.Geometry{Logical: 512, Physical: 4096},
	}
	if err := system.check(); err != nil {
		return nil, err
	}
	b := &Bench{dir: dir, config: &Config{Host: host}, now: now}
	var err error
	if b.dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	if err := b.store(&kernel{}); err != nil {
		return nil, err
	}
	if err := b.AddDisk(system); err != nil {
		return nil, err
	}
	id := fresh()
	if err := b.install(&system, host, id, layout, fresh); err != nil {
		return nil, err
	}
	line := fstab.Entry{Spec: "UUID=" + id.String(), Dir: "/", Type: "ext4", Options: []string{"rw"}, Pass: 1}
	text := "# file systems of " + host + "\n" + line.String() + "\n"
	texts := accounts()
	texts["etc/fstab"], texts["etc/hostname"] = text, host+"\n"
	own := oscall.Attributes{Mode: 0o644, UID: os.Getuid(), GID: os.Getgid()}
	for name, text := range texts {
		if err := oscall.WriteFile(filepath.Join(b.Root(), name), []byte(text), own); err != nil {
			return nil, err
		}
	}
	_, err = b.Boot(ctx)
	return b, err
}

// user is who works at a bench's machine, besides root.
const user = "curator"

// accounts are the lists of users and groups by their paths. The user has the numbers of
// whoever makes the bench, who may give files away to nobody else.
func accounts() map[string]string {
	uid, gid := os.Getuid(), os.Getgid()
	if uid == 0 {
		uid, gid = 1000, 1000
	}
	return map[string]string{
		"etc/passwd": fmt.Sprintf("root:x:0:0:root:/root:/bin/sh\n%s:x:%d:%d:%s:/home/%[1]s:/bin/sh\n", user, uid, gid, user),
		"etc/group":  fmt.Sprintf("root:x:0:\n%s:x:%d:\n", user, gid),
	}
}

// firmwareSize is that of the partition from which firmware starts.
const firmwareSize = 512 * quantity.MiB

// install gives the system disk its table, its root file system, and the partition from which
// firmware starts the machine.
func (b *Bench) install(d *Disk, label string, id uuid.UUID, layout Layout, fresh func() uuid.UUID) error {
	dev, err := file.Open(b.imagePath(d), true, d.Sectors)
	if err != nil {
		return err
	}
	defer dev.Close()
	sector := quantity.Bytes(d.Sectors.Logical)
	t, err := gpt.New(quantity.Bytes(dev.Size()), sector, quantity.MiB, fresh())
	if err != nil {
		return err
	}
	room, err := t.Model(sector).Place(0, quantity.MiB)
	if err != nil {
		return err
	}
	firmware := uint64(firmwareSize / sector)
	root, efi := room, room
	root.Count -= firmware
	efi.Start, efi.Count = root.End(), firmware
	if layout.RootLast {
		efi.Start, root.Start = room.Start, room.Start+firmware
	}
	rootID := fresh()
	options := ext.Usual(ext.Ext4).With(label[:min(len(label), 16)], id, b.now())
	options.HashSeed, options.JournalUUID, options.FirstSequence = fresh(), fresh(), 1
	if err := errors.Join(enterPartition(t, 1, linuxRoot, "root", root, rootID),
		enterPartition(t, 2, efiSystem, "efi", efi, fresh())); err != nil {
		return err
	}
	if _, err := gpt.Write(dev, nil, t); err != nil {
		return err
	}
	err = within(dev, root, func(part block.Device) error { _, err := ext.Make(context.Background(), part, options); return err })
	if err != nil {
		return err
	}
	order := corefs.Order{
		Start:  quantity.Bytes(efi.Start) * sector,
		ID:     corefs.Serial.Fresh(fresh()),
		Wishes: corefs.Wishes{"for": {Word: "efi"}},
		Time:   options.Time,
		Fresh:  fresh,
	}
	return within(dev, efi, func(part block.Device) error { _, err := fat.MakeOrder(context.Background(), part, order); return err })
}

func enterPartition(t *gpt.Table, number int, kind, name string, at extent.Span, id uuid.UUID) error {
	e := gpt.Entry{Type: uuid.MustParse(kind), Unique: id, First: at.Start, Last: at.End() - 1}
	return errors.Join(e.SetName(name), t.Add(number, e))
}

// within runs the function on sectors of a disk.
func within(dev block.Device, at extent.Span, fn func(part block.Device) error) error {
	sector := dev.Geometry().Logical
	part, err := block.NewSlice(dev, int64(at.Start)*sector, int64(at.Count)*sector)
	if err != nil {
		return err
	}
	return fn(part)
}

// AddDisk plugs a disk in. Its image is made if it is missing.
func (b *Bench) AddDisk(d Disk) error {
	if err := d.check(); err != nil {
		return err
	}
	if _, err := b.disk(d.Name); err == nil {
		return fmt.Errorf("%s: %w", d.Name, ErrTaken)
	}
	size, err := d.bytes()
	if err != nil {
		return err
	}
	path := b.imagePath(&d)
	if err := file.Create(path, int64(size)); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	b.config.Disks = append(b.config.Disks, d)
	if err := b.save(); err != nil {
		return err
	}
	return b.replugged(d.Name)
}

// replugged has the kernel forget what it knew of a disk, and read its table where
// it is there.
func (b *Bench) replugged(name string) error {
	k, err := b.kernel()
	if err != nil || k.Off { // at the next boot it looks anyway
		return nil
	}
	delete(k.Partitions, name)
	delete(k.Sizes, name)
	if d, err := b.disk(name); err == nil {
		v := &inventory.Inventory{Nodes: b.scan(context.Background(), d, k)}
		if parts := v.Taken(name); len(parts) > 0 {
			k.Partitions[name] = parts
		}
	}
	return b.store(k)
}

// RemoveDisk pulls a disk out; its image stays. One in use is refused unless it is to be
// pulled all the same: then its mounts end with it and what is on it was not unmounted.
func (b *Bench) RemoveDisk(ctx context.Context, name string, inUse bool) error {
	if _, err := b.disk(name); err != nil {
		return err
	}
	v, err := b.Inventory(ctx)
	if err != nil {
		return err
	}
	if err := machine.CheckAction(v, machine.Action{Verb: machine.ReadTable, Device: name}); err != nil && !inUse {
		return err
	}
	if err := b.forgetUses(v.Family(name)); err != nil {
		return err
	}
	for i, d := range b.config.Disks {
		if d.Name == name {
			b.config.Disks = append(b.config.Disks[:i:i], b.config.Disks[i+1:]...)
			break
		}
	}
	if err := b.save(); err != nil {
		return err
	}
	return b.replugged(name)
}

// forgetUses ends the uses of devices that are gone, as a kernel cannot write to them.
func (b *Bench) forgetUses(gone []inventory.Node) error {
	k, err := b.kernel()
	if err != nil || k.Off {
		return nil // nothing is in use
	}
	k.Uses = slices.DeleteFunc(k.Uses, func(u inventory.Use) bool {
		return slices.ContainsFunc(gone, func(n inventory.Node) bool { return n.Name == u.Node })
	})
	return b.store(k)
}

// PlantFault puts a fault into a disk, or takes it out where it is nil.
func (b *Bench) PlantFault(name string, f *Fault) error {
	d, err := b.disk(name)
	if err != nil {
		return err
	}
	d.Fault = f
	return b.save()
}

func (b *Bench) save() error {
	data, err := b.config.encode()
	if err != nil {
		return err
	}
	return oscall.WriteFile(filepath.Join(b.dir, "bench.yaml"), data, oscall.Attributes{Mode: 0o644, UID: os.Getuid(), GID: os.Getgid()})
}

// Boot shuts the bench down, if it is on, and boots it: the kernel reads every
// table, and mounts what fstab says until a line ends in the emergency shell.
// A planted power cut is used up.
func (b *Bench) Boot(ctx context.Context) (boot.Report, error) {
	k, err := b.kernel()
	if err != nil || k.Partitions == nil {
		k = &kernel{Off: true}
	}
	if !k.Off {
		if err := b.shutdown(ctx, k); err != nil {
			return boot.Report{}, err
		}
	}
	fresh := &kernel{BootID: newBootID(), Partitions: map[string][]inventory.KernelPart{}}
	for i := range b.config.Disks {
		if f := b.config.Disks[i].Fault; f != nil && f.CutAtWrite > 0 && k.Off {
			f.CutAtWrite = 0
			if *f == (Fault{Seed: f.Seed}) {
				b.config.Disks[i].Fault = nil
			}
		}
	}
	if err := b.save(); err != nil {
		return boot.Report{}, err
	}
	v, err := b.inventory(ctx, fresh)
	if err != nil {
		return boot.Report{}, err
	}
	for _, n := range v.Disks() {
		fresh.Partitions[n.Name] = v.Taken(n.Name)
		machine.Effect(v, machine.Action{Verb: machine.ReadTable, Device: n.Name})
	}
	if err := b.store(fresh); err != nil {
		return boot.Report{}, err
	}
	report := boot.Rehearse(v)
	return report, b.mountAll(ctx, v, report)
}

func (b *Bench) shutdown(ctx context.Context, k *kernel) error {
	v, err := b.inventory(ctx, k)
	if err != nil {
		return err
	}
	for _, u := range v.Uses {
		if u.How == inventory.Mounted && !u.ReadOnly {
			if err := b.touch(v, u.Node, unmounted(b.now())); err != nil {
				return err
			}
		}
	}
	return nil
}

// mountAll mounts the lines that come up; where the boot ends in the emergency
// shell, only the root is mounted, and nothing where that is not found.
func (b *Bench) mountAll(ctx context.Context, v *inventory.Inventory, r boot.Report) error {
	if r.Verdict == boot.NoRoot {
		return nil
	}
	for _, l := range r.Lines {
		if l.Outcome != boot.Fine || l.Device == "" || r.Verdict == boot.Shell && l.Dir != "/" {
			continue
		}
		if l.Kind == fstab.Swap {
			if err := b.Do(ctx, v, machine.Action{
				Verb:    machine.SwapOn,
				Device:  l.Device,
				UseArgs: machine.UseArgs{Options: l.Options},
			}); err != nil {
				return err
			}
			continue
		}
		at, err := machine.Below(b.Root(), l.Dir)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(at.Full, 0o755); err != nil {
			return err
		}
		if err := b.Do(ctx, v, machine.Action{
			Verb:    machine.Mount,
			Device:  l.Device,
			UseArgs: machine.UseArgs{Where: l.Dir, Kind: l.Kind, Options: l.Options},
		}); err != nil {
			return err
		}
	}
	return nil
}

func unmounted(at time.Time) func(*kind.Simulation, block.Device) error {
	return func(s *kind.Simulation, dev block.Device) error { return s.Unmounted(dev, at) }
}
