package bench

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/refused"
)

// Config is bench.yaml.
type Config struct {
	Host string `yaml:"host"`
	// Firmware is uefi or bios; none is uefi.
	Firmware string `yaml:"firmware,omitempty"`
	Disks    []Disk `yaml:"disks"`
}

// Disk is one disk of bench.yaml.
type Disk struct {
	Name       string         `yaml:"name"`
	Image      string         `yaml:"image"` // relative to the bench
	Size       string         `yaml:"size"`
	Bus        string         `yaml:"bus,omitempty"`
	Model      string         `yaml:"model,omitempty"`
	Serial     string         `yaml:"serial,omitempty"`
	Rotational bool           `yaml:"rotational,omitempty"`
	Removable  bool           `yaml:"removable,omitempty"`
	ReadOnly   bool           `yaml:"read_only,omitempty"`
	Discard    int64          `yaml:"discard_bytes,omitempty"` // in steps of so many; 0 where it cannot
	Sectors    block.Geometry `yaml:"sectors"`
	Fault      *Fault         `yaml:"fault,omitempty"`
}

// Fault is planted in a disk. Counters begin at 1, so that 0 means none.
type Fault struct {
	CutAtWrite  int    `yaml:"cut_at_write,omitempty"`  // the power goes before this write or sync
	FailAtWrite int    `yaml:"fail_at_write,omitempty"` // this write or sync fails
	ReadErrorAt *int64 `yaml:"read_error_at,omitempty"` // reads of this byte fail
	Hangs       bool   `yaml:"hangs,omitempty"`         // it never answers
	Seed        uint64 `yaml:"seed,omitempty"`          // what survives of unsynced writes
}

// Errors of bench.yaml.
var (
	ErrConfig = errors.New("bench.yaml")
	ErrTaken  = errors.New("the bench has such a disk already")
	ErrNoDisk = errors.New("the bench has no such disk")
)

const maxDisks = 1024

// ParseConfig reads bench.yaml. An unknown key is an error with its line.
func ParseConfig(data []byte) (*Config, error) {
	var c Config
	dec := yaml.NewDecoder(bytes.NewReader(data))
	dec.KnownFields(true)
	if err := dec.Decode(&c); err != nil {
		return nil, fmt.Errorf("%w: %s", ErrConfig, plainYAML(err))
	}
	if c.Host == "" {
		return nil, fmt.Errorf("%w: host is missing", ErrConfig)
	}
	if c.firmware() == "" {
		return nil, fmt.Errorf("%w: firmware is %q: uefi or bios", ErrConfig, c.Firmware)
	}
	if len(c.Disks) > maxDisks {
		return nil, fmt.Errorf("%w: %d disks, at most %d", ErrConfig, len(c.Disks), maxDisks)
	}
	for i := range c.Disks {
		d := &c.Disks[i]
		if err := d.check(); err != nil {
			return nil, fmt.Errorf("%w: disk %d: %w", ErrConfig, i+1, err)
		}
		for _, o := range c.Disks[:i] {
			if o.Name == d.Name {
				return nil, fmt.Errorf("%w: %s: %w", ErrConfig, d.Name, ErrTaken)
			}
		}
	}
	return &c, nil
}

// firmware is how a kernel names it; empty for a word that is none.
func (c *Config) firmware() string {
	return map[string]string{"": "UEFI", "uefi": "UEFI", "bios": "BIOS"}[c.Firmware]
}

// plainYAML says in one line what is wrong, with the line of each key.
func plainYAML(err error) string {
	var types *yaml.TypeError
	if !errors.As(err, &types) {
		return strings.TrimPrefix(err.Error(), "yaml: ")
	}
	unknown := regexp.MustCompile(`field (\S+) not found in type \S+`)
	return unknown.ReplaceAllString(strings.Join(types.Errors, "; "), "there is no key $1; remove it, or correct its spelling")
}

// Buses are the words for how a disk of a bench is connected.
func Buses() []string { return []string{"sata", "sas", "usb", "nvme", "virtio", "mmc"} }

func (d *Disk) check() error {
	if d.Bus != "" && !slices.Contains(Buses(), d.Bus) {
		return refused.As(refused.SettingWrong, fmt.Errorf("bus %q: it is one of %s", d.Bus, strings.Join(Buses(), ", ")))
	}
	if !validName(d.Name) {
		return fmt.Errorf("name %q: small letters and digits, as the kernel names disks", d.Name)
	}
	if d.Image == "" {
		d.Image = filepath.Join("disks", d.Name+".img")
	}
	if !filepath.IsLocal(d.Image) {
		return fmt.Errorf("image %q is outside the bench", d.Image)
	}
	if d.Sectors.Logical == 0 {
		d.Sectors.Logical = 512
	}
	d.Sectors.Physical = max(d.Sectors.Physical, d.Sectors.Logical)
	for _, n := range []int64{d.Sectors.Logical, d.Sectors.Physical} {
		if n < 512 || n > 65536 || n&(n-1) != 0 {
			return fmt.Errorf("sector of %d bytes: a power of two from 512 to 65536", n)
		}
	}
	size, err := d.bytes()
	if err != nil {
		return err
	}
	if size <= 0 || int64(size)%d.Sectors.Logical != 0 {
		return fmt.Errorf("size %s: not a multiple of the sector of %d bytes", d.Size, d.Sectors.Logical)
	}
	return nil
}

func (d *Disk) bytes() (quantity.Bytes, error) {
	size, err := quantity.Parse(d.Size)
	if err != nil {
		return 0, err
	}
	if size.Form != quantity.Absolute && size.Form != quantity.InSector {
		return 0, fmt.Errorf("size %s: a disk has an absolute size", d.Size)
	}
	return size.Resolve(quantity.Bytes(d.Sectors.Logical), 0)
}

func validName(name string) bool {
	if len(name) < 2 || len(name) > 16 || name[0] < 'a' || name[0] > 'z' {
		return false
	}
	return !slices.ContainsFunc([]byte(name), func(c byte) bool { return (c < 'a' || c > 'z') && (c < '0' || c > '9') })
}

// encode writes bench.yaml.
func (c *Config) encode() ([]byte, error) { return yaml.Marshal(c) }

// node is the disk without its content.
func (d *Disk) node() inventory.Node {
	size, _ := d.bytes() // check read it already
	n := inventory.Node{
		Name: d.Name, Path: "/dev/" + d.Name, Form: inventory.Disk, Size: size, Geometry: d.Sectors, InKernel: true,
		Hardware: inventory.Hardware{
			Bus:        d.Bus,
			Model:      d.Model,
			Serial:     d.Serial,
			Rotational: d.Rotational,
			Removable:  d.Removable,
			ReadOnly:   d.ReadOnly,
			Discard:    quantity.Bytes(d.Discard),
		},
		Identity: inventory.Identity{Disk: "bench image " + d.Image, Size: size, Sector: quantity.Bytes(d.Sectors.Logical)},
	}
	if d.Serial != "" {
		n.Identity.Disk, n.Identity.Own = fmt.Sprintf("%s %s %s", d.Bus, d.Model, d.Serial), true
	}
	return n
}

func (f *Fault) device() block.Fault {
	out := block.NoFault
	if f == nil {
		return out
	}
	out.Seed = f.Seed
	out.CutAt, out.FailAt = f.CutAtWrite-1, f.FailAtWrite-1
	if f.ReadErrorAt != nil {
		out.ReadErrorAt = *f.ReadErrorAt
	}
	return out
}
