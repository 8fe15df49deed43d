package bench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/scan"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/machine/files"
	"fundus/internal/machine/image"
	"fundus/internal/oscall"
)

// Bench is an opened bench.
type Bench struct {
	dir    string
	config *Config
	images []string
	now    func() time.Time
}

var _ machine.Machine = (*Bench)(nil)

// kernel is what the simulated kernel knows.
type kernel struct {
	BootID     string                            `json:"boot_id"`
	Off        bool                              `json:"off,omitempty"` // the power was lost
	Uses       []inventory.Use                   `json:"uses"`
	SwapFiles  []inventory.Area                  `json:"swap_files,omitempty"`
	Partitions map[string][]inventory.KernelPart `json:"partitions"`
	Sizes      map[string]quantity.Bytes         `json:"sizes_bytes,omitempty"` // of disks that have grown without the kernel's knowledge
}

// Errors of benches.
var (
	ErrNone = errors.New("no bench")
	ErrOff  = way.To(refused.As(refused.InUse, errors.New("the bench is switched off, its power was lost")), way.BenchBoot())
)

// Open opens the bench in the directory. Image files may be looked at beside
// its disks.
func Open(dir string, images []string, now func() time.Time) (*Bench, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(filepath.Join(dir, "bench.yaml"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, way.To(fmt.Errorf("%w in %s: it has no bench.yaml", ErrNone, dir), way.BenchNew("DIR").Asking("DIR"))
	}
	if err != nil {
		return nil, err
	}
	config, err := ParseConfig(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", dir, err)
	}
	return &Bench{dir, config, images, now}, nil
}

// Root is where the machine's text files lie.
func (b *Bench) Root() string { return filepath.Join(b.dir, "root") }

// StateDir holds the bench's own deeds.
func (b *Bench) StateDir() string { return filepath.Join(b.dir, "state") }

func (b *Bench) kernelPath() string { return filepath.Join(b.dir, "kernel.json") }

func (b *Bench) kernel() (*kernel, error) {
	data, err := os.ReadFile(b.kernelPath())
	if err != nil {
		return nil, err
	}
	var k kernel
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, way.To(fmt.Errorf("%s: %w", b.kernelPath(), err), way.BenchBoot())
	}
	if k.Partitions == nil {
		k.Partitions = map[string][]inventory.KernelPart{}
	}
	return &k, nil
}

func (b *Bench) store(k *kernel) error {
	data, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	return oscall.WriteFile(b.kernelPath(), append(data, '\n'), oscall.Attributes{Mode: 0o644, UID: os.Getuid(), GID: os.Getgid()})
}

// running gives the kernel's state of a bench that is switched on.
func (b *Bench) running() (*kernel, error) {
	k, err := b.kernel()
	if err == nil && k.Off {
		return nil, ErrOff
	}
	return k, err
}

func (b *Bench) disk(name string) (*Disk, error) {
	i := slices.IndexFunc(b.config.Disks, named(name))
	if i < 0 {
		return nil, fmt.Errorf("%s: %w", name, ErrNoDisk)
	}
	return &b.config.Disks[i], nil
}

// Knows reports whether the word is the name of a disk, or of a partition that one could
// have: an image file of that name is meant by its path.
func (b *Bench) Knows(word string) bool {
	return slices.ContainsFunc(b.config.Disks, func(d Disk) bool {
		rest, of := strings.CutPrefix(word, d.Name)
		if c := d.Name[len(d.Name)-1]; of && rest != "" && c >= '0' && c <= '9' {
			rest, of = strings.CutPrefix(rest, "p")
		}
		number, err := strconv.Atoi(rest)
		return of && (word == d.Name || err == nil && number > 0)
	})
}

func (b *Bench) imagePath(d *Disk) string { return filepath.Join(b.dir, d.Image) }

// Open opens a disk or an image for reading.
func (b *Bench) Open(_ context.Context, name string) (block.Device, error) {
	d, err := b.disk(name)
	if err != nil {
		if slices.Contains(b.images, name) {
			return image.Open(name)
		}
		return nil, err
	}
	if err := d.silent(); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	dev, err := file.Open(b.imagePath(d), false, d.Sectors)
	if err != nil {
		return nil, err
	}
	if d.Fault == nil || d.Fault.ReadErrorAt == nil {
		return b.known(name, dev)
	}
	fault := block.NoFault
	fault.ReadErrorAt = *d.Fault.ReadErrorAt
	return b.known(name, block.NewFaulty(dev, fault))
}

// List names the files of a directory below the bench's root.
func (b *Bench) List(path string) ([]string, error) {
	at, err := machine.Below(b.Root(), path)
	if err != nil {
		return nil, err
	}
	return files.ListDir(at.Full)
}

// ReadFile reads below the bench's root.
func (b *Bench) ReadFile(path string) (machine.FileState, error) {
	at, err := machine.Below(b.Root(), path)
	if err != nil {
		return machine.FileState{}, err
	}
	return machine.ReadFileState(at.Full)
}

// Place says where a text file lies.
func (b *Bench) Place(path string) (machine.Place, error) {
	at, err := machine.Below(b.Root(), path)
	if err != nil {
		return at, err
	}
	return at.Known(b.Root()), nil
}

// Inventory reads every disk, the text files and the kernel's tables.
func (b *Bench) Inventory(ctx context.Context) (*inventory.Inventory, error) {
	k, err := b.running()
	if err != nil {
		return nil, err
	}
	return b.inventory(ctx, k)
}

func (b *Bench) inventory(ctx context.Context, k *kernel) (*inventory.Inventory, error) {
	v := &inventory.Inventory{
		Machine: inventory.Machine{Kind: "bench", Name: b.config.Host, BootID: k.BootID, Now: b.now(), Firmware: b.config.firmware()},
		Uses:    slices.Clone(k.Uses),
		Files:   map[string]inventory.File{}, Leads: map[string]string{}, Sources: map[string]bool{}, Dirs: map[string]bool{"/": true},
	}
	all, err := machine.Each(ctx, len(b.config.Disks), func(i int) []inventory.Node { return b.look(ctx, &b.config.Disks[i], k) })
	if err != nil {
		return nil, err
	}
	v.Nodes = all
	v.Memory = inventory.Memory{Total: 8 * quantity.GiB, Available: 6 * quantity.GiB}
	for _, a := range k.SwapFiles {
		if info, err := os.Stat(filepath.Join(b.Root(), a.Path)); err == nil {
			a.Size = quantity.Bytes(info.Size())
		}
		v.Areas = append(v.Areas, a)
	}
	for _, u := range k.Uses {
		if n, ok := v.Node(u.Node); ok && u.How == inventory.SwapOn {
			c, _ := n.Content()
			v.Areas = append(v.Areas, inventory.Area{Path: n.Path, Node: n.Name, Size: c.Size - c.BlockSize, Priority: u.Priority})
		}
	}
	for _, path := range b.images {
		nodes, err := image.Scan(ctx, path)
		if err != nil {
			return nil, err
		}
		v.Nodes = append(v.Nodes, nodes...)
	}
	return v, files.Read(v, b)
}

// look looks at a disk, while nobody else is changing it.
func (b *Bench) look(ctx context.Context, d *Disk, k *kernel) []inventory.Node {
	return machine.Undisturbed(ctx, func() []inventory.Node { return b.scan(ctx, d, k) }, func() string { return b.Locked(d.Name) })
}

// Locked says who else has locked the disk's image.
func (b *Bench) Locked(name string) string {
	if d, err := b.disk(name); err == nil {
		return oscall.LockedBy(b.imagePath(d))
	}
	return oscall.LockedBy(name)
}

func (b *Bench) scan(ctx context.Context, d *Disk, k *kernel) []inventory.Node {
	n := d.node()
	if size, less := k.Sizes[d.Name]; less {
		n.Size, n.Identity.Size = size, size
	}
	if err := d.silent(); err != nil {
		n.Problem, n.Silent = err.Error(), true
		return append([]inventory.Node{n}, unread(n, k.Partitions[d.Name])...)
	}
	dev, err := b.Open(ctx, d.Name)
	if err != nil {
		n.Problem = err.Error()
		return []inventory.Node{n}
	}
	defer dev.Close()
	if got := quantity.Bytes(dev.Size()); got != n.Size {
		n.Problem = fmt.Sprintf("the image has %d bytes, bench.yaml says %d", got, n.Size)
		return []inventory.Node{n}
	}
	n.Kernel = k.Partitions[d.Name]
	nodes := scan.Disk(n, dev)
	for i := range nodes {
		nodes[i].Device = number(&nodes[i])
	}
	return nodes
}

// number is what the SCSI disks of a kernel have: 16 of them, with 15 partitions each, are
// of major number 8 (Documentation/admin-guide/devices.txt).
func number(n *inventory.Node) string {
	const most = 16
	letter, ok := strings.CutPrefix(n.Disk(), "sd")
	if !ok || len(letter) != 1 || letter[0] > 'p' || n.Number >= most || !n.InKernel {
		return ""
	}
	return fmt.Sprintf("8:%d", int(letter[0]-'a')*most+n.Number)
}

// silent is why nothing is asked of the disk; a bench need not wait to know it.
func (d *Disk) silent() error {
	if d.Fault != nil && d.Fault.Hangs {
		return &machine.SilentError{Waited: machine.Patience}
	}
	return nil
}

// unread are the partitions that the kernel knows of a disk that is not read.
func unread(disk inventory.Node, known []inventory.KernelPart) (out []inventory.Node) {
	for _, p := range known {
		n := disk
		n.Form, n.Parent, n.Number, n.Start, n.Size = inventory.Partition, disk.Name, p.Number, p.Start, p.Size
		n.Name, n.Path = scan.Name(disk, p.Number)
		out = append(out, n)
	}
	return out
}

// Claim locks the images of all disks in order of their names, once each.
func (b *Bench) Claim(ctx context.Context, v *inventory.Inventory, targets []machine.Target) (*machine.Claim, error) {
	v, err := machine.Looked(ctx, b, v)
	if err != nil {
		return nil, err
	}
	return machine.ClaimEach(v, targets, b.claim)
}

func (b *Bench) claim(name string) (block.Device, error) {
	d, err := b.disk(name)
	if err != nil {
		return image.Claim(name, image.Geometry(name))
	}
	if err := d.silent(); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	dev, err := image.Claim(b.imagePath(d), d.Sectors)
	if err != nil {
		return nil, err
	}
	if d.Fault == nil {
		return b.known(name, dev)
	}
	return b.known(name, &powered{block.NewFaulty(dev, d.Fault.device()), b})
}

// powered is a faulty disk whose power cut switches the whole bench off.
type powered struct {
	*block.Faulty
	bench *Bench
}

func (p *powered) WriteAt(b []byte, off int64) (int, error) {
	n, err := p.Faulty.WriteAt(b, off)
	return n, p.bench.lostPower(err)
}

func (p *powered) WriteZeroes(off, n int64) error {
	return p.bench.lostPower(p.Faulty.WriteZeroes(off, n))
}

func (p *powered) Sync() error { return p.bench.lostPower(p.Faulty.Sync()) }

func (b *Bench) lostPower(err error) error {
	if !errors.Is(err, block.ErrPowerLost) {
		return err
	}
	k, errKernel := b.kernel()
	if errKernel != nil || k.Off {
		return err
	}
	k.Off, k.Uses = true, nil
	return errors.Join(err, b.store(k))
}

// Holds looks the action up in the kernel's tables.
func (b *Bench) Holds(ctx context.Context, a machine.Action) (bool, error) {
	k, err := b.running()
	if err != nil {
		return false, err
	}
	v := &inventory.Inventory{Nodes: []inventory.Node{{Name: a.Device, Kernel: k.Partitions[a.Device]}}, Uses: k.Uses, Areas: k.SwapFiles}
	if a.Reads() {
		if v, err = b.inventory(ctx, k); err != nil {
			return false, err
		}
	}
	return machine.Holds(v, a), nil
}

// Do carries the action out as a kernel would.
func (b *Bench) Do(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	k, err := b.running()
	if err != nil {
		return err
	}
	if v == nil {
		if v, err = b.inventory(ctx, k); err != nil {
			return err
		}
	}
	v.Dirs = maps.Clone(v.Dirs) // others hold the same map
	for _, dir := range a.Dirs() {
		state, err := b.ReadFile(dir)
		v.Dirs[dir] = err == nil && state.Dir
	}
	if err := machine.CheckAction(v, a); err != nil {
		return err
	}
	if does, more := besides()[a.Verb]; more {
		err = does(b, v, k, a)
	} else {
		k.bring(v, a)
	}
	if err != nil {
		return err
	}
	machine.Effect(v, a)
	return b.store(k)
}

// besides are the verbs of which more comes than their effect in the kernel's lists.
var besides = sync.OnceValue(func() map[machine.Verb]func(b *Bench, v *inventory.Inventory, k *kernel, a machine.Action) error {
	return map[machine.Verb]func(b *Bench, v *inventory.Inventory, k *kernel, a machine.Action) error{
		machine.ReadSize: (*Bench).readSize,
		machine.Mount:    (*Bench).mount,
		machine.Bind:     (*Bench).bind,
		machine.Unmount:  (*Bench).unmount,
		machine.Remount:  (*Bench).remount,
		machine.Relabel:  (*Bench).relabel,
		machine.Identify: (*Bench).identify,
		machine.Discard:  (*Bench).discard,
		machine.Grow:     (*Bench).grow,
	}
})

func (b *Bench) readSize(_ *inventory.Inventory, k *kernel, a machine.Action) error {
	delete(k.Sizes, a.Device)
	return nil
}

func (b *Bench) unmount(v *inventory.Inventory, k *kernel, a machine.Action) error {
	use, _ := v.MountedAt(a.Where)
	k.Uses = slices.DeleteFunc(k.Uses, func(u inventory.Use) bool { return u.How == use.How && u.Node == use.Node && u.Where == use.Where })
	readOnly := slices.Contains(strings.Split(use.Super, ","), "ro") // the file system, not this mount of it
	if readOnly || len(v.UsesOf(use.Node)) != 1 {
		return nil
	}
	return b.touch(v, use.Node, func(s *kind.Simulation, dev block.Device) error { return s.Unmounted(dev, b.now()) })
}

func (b *Bench) remount(v *inventory.Inventory, k *kernel, a machine.Action) error {
	use, _ := v.MountedAt(a.Where)
	k.bring(v, a)
	options := strings.Split(a.Options, ",")
	switch { // for reading alone it is as if it were not mounted
	case slices.Contains(options, "ro") && !use.ReadOnly:
		return b.touch(v, use.Node, func(s *kind.Simulation, dev block.Device) error { return s.Unmounted(dev, b.now()) })
	case slices.Contains(options, "rw") && use.ReadOnly:
		return b.touch(v, use.Node, func(s *kind.Simulation, dev block.Device) error { return s.Mounted(dev, b.now(), a.Where) })
	}
	return nil
}

// makeDir makes the mount point, where that is asked for.
func (b *Bench) makeDir(a machine.Action) error {
	if !a.Make {
		return nil
	}
	return os.MkdirAll(filepath.Join(b.Root(), a.Where), 0o755)
}

func (b *Bench) bind(v *inventory.Inventory, k *kernel, a machine.Action) error {
	k.bring(v, a)
	return b.makeDir(a)
}

// bring brings the action about in the kernel's own lists. Of v it takes what lies on the
// disk, which the kernel reads there.
func (k *kernel) bring(v *inventory.Inventory, a machine.Action) {
	own := &inventory.Inventory{Uses: k.Uses, Areas: k.SwapFiles}
	if a.Listed() {
		own.Nodes = append([]inventory.Node{{Name: a.Device, Kernel: k.Partitions[a.Device]}}, v.Parts(a.Device)...)
	}
	machine.Effect(own, a)
	k.Uses = own.Uses
	k.SwapFiles = slices.DeleteFunc(own.Areas, func(o inventory.Area) bool { return !o.File }) // of a partition its use says it
	if a.Listed() {
		k.Partitions[a.Device] = own.Nodes[0].Kernel
	}
}

func (b *Bench) mount(v *inventory.Inventory, k *kernel, a machine.Action) error {
	n, _ := v.Node(a.Device)
	c, _ := n.Content()
	again := len(v.UsesOf(n.Name)) > 0
	use := machine.MountedAs(a, c)
	k.Uses = append(k.Uses, use)
	if err := b.makeDir(a); err != nil || use.ReadOnly || again {
		return err
	}
	return b.touch(v, n.Name, func(s *kind.Simulation, dev block.Device) error { return s.Mounted(dev, b.now(), a.Where) })
}

// discard lets the bytes read as zeros, as many devices do.
func (b *Bench) discard(v *inventory.Inventory, _ *kernel, a machine.Action) error {
	n, _ := v.Node(a.Device)
	dev, err := b.claim(n.Disk())
	if err != nil {
		return err
	}
	for _, s := range a.Spans {
		err = errors.Join(err, dev.WriteZeroes(int64(n.Start)+int64(s.Start), int64(s.Count)))
	}
	return errors.Join(err, dev.Close())
}

func (b *Bench) relabel(v *inventory.Inventory, _ *kernel, a machine.Action) error {
	return b.onNode(v, a.Device, func(k kind.Kind, dev block.Device) error {
		if k.Simulation == nil || len(machine.Mounts(v, a.Device)) == 0 { // its bytes are those of before the mount
			return k.SetLabel(dev, a.Label)
		}
		return k.Simulation.Labelled(dev, a.Label)
	})
}

// grow does to the bytes what the kernel would, where that is known.
func (b *Bench) grow(v *inventory.Inventory, _ *kernel, a machine.Action) error {
	return b.onNode(v, a.Device, func(k kind.Kind, dev block.Device) error {
		return k.Simulation.Grown(dev, a.Length)
	})
}

func (b *Bench) identify(v *inventory.Inventory, _ *kernel, a machine.Action) error {
	return b.onNode(v, a.Device, func(k kind.Kind, dev block.Device) error {
		id, err := k.Makes[0].ID.Parse(a.ID)
		switch {
		case err != nil:
			return err
		case len(machine.Mounts(v, a.Device)) == 0:
			return k.SetID(dev, id)
		}
		return k.Simulation.Identified(dev, id)
	})
}

// touch writes to a node as the kernel does, past any claim: the kernel asks
// nobody, but an image that somebody else locked is refused.
func (b *Bench) touch(v *inventory.Inventory, name string, fn func(*kind.Simulation, block.Device) error) error {
	return b.onNode(v, name, func(k kind.Kind, dev block.Device) error {
		if k.Simulation == nil {
			return nil
		}
		return fn(k.Simulation, dev)
	})
}

func (b *Bench) onNode(v *inventory.Inventory, name string, fn func(kind.Kind, block.Device) error) error {
	n, _ := v.Node(name)
	c, ok := n.Content()
	k, known := kind.Of(c)
	if !ok || !known {
		return nil
	}
	dev, err := b.claim(n.Disk())
	if err != nil {
		return err
	}
	part, err := block.NewSlice(dev, int64(n.Start), int64(n.Size))
	if err == nil {
		err = fn(k, part)
	}
	return errors.Join(err, dev.Close())
}

func newBootID() string { return uuid.NewString() }
