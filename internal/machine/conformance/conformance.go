// Package conformance holds what every machine must refuse, as one table of
// cases that is run on a bench and, in the kernel proof, on a real Linux. There
// the kernel itself is asked as well: a rule that it does not have is no rule.
package conformance

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"reflect"
	"slices"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fence"
	"fundus/core/fs/ext"
	"fundus/core/quantity"
	"fundus/core/table/gpt"
	"fundus/internal/machine"
)

// Size is how large the disk must be.
const Size = 128 << 20

const sectors, sector = 20480, 512 // of each partition

// Row is one thing that is refused.
type Row struct {
	Rule     machine.Rule
	First    []machine.Action // brings the machine into the state
	ReadOnly bool             // the disk is a read-only medium
	Asleep   bool             // a system hibernates in the swap area
	Ours     bool             // a rule of Fundus's own: the kernel would do something
	Action   machine.Action
	Target   *machine.Target // to claim, instead of an action
}

// Subject is a machine with a disk that Prepare filled.
type Subject struct {
	Disk, RootDisk string
	RootSize       quantity.Bytes
	Part           func(number int) string         // name of a partition of Disk
	Fresh          func() (machine.Machine, error) // the machine as it was before the first row
	SetReadOnly    func(bool) error
	// Kernel carries out what was refused without asking Fundus, and gives its
	// error; nil where there is no kernel to ask.
	Kernel func(Row) error
}

// Directories that must exist on the machine.
func Directories() []string { return []string{"/srv/a", "/srv/a/deep", "/srv/b"} }

// Prepare fills the disk: a partition for each thing that a kernel refuses.
func Prepare(dev block.Device) error {
	table, err := gpt.New(quantity.Bytes(dev.Size()), sector, quantity.MiB, uuid.New())
	if err != nil {
		return err
	}
	for i, fill := range []func(block.Device) error{healthy, nothing, swap, damaged, unknownFeature, tooLarge, fenced, healthy, seeded} {
		n := i + 1
		e := gpt.Entry{Type: uuid.New(), Unique: uuid.New(), First: uint64(n) * sectors, Last: uint64(n)*sectors + sectors - 1}
		part, err := block.NewSlice(dev, int64(n)*sectors*sector, sectors*sector)
		if err := errors.Join(err, table.Add(n, e)); err != nil {
			return err
		}
		if err := fill(part); err != nil {
			return err
		}
	}
	_, err = gpt.Write(dev, nil, table)
	return err
}

func healthy(d block.Device) error {
	_, err := ext.Make(context.Background(), d, ext.Usual(ext.Ext4).With("", uuid.New(), time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)))
	return err
}

// seeded is one whose identifier the kernel changes while it is mounted.
func seeded(d block.Device) error {
	o := ext.Usual(ext.Ext4).With("", uuid.MustParse(formerID), time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC))
	o.Seed = true
	_, err := ext.Make(context.Background(), d, o)
	return err
}

// Identifiers of it, before and after.
const (
	formerID = "5eed0000-0000-4000-8000-000000000009"
	newID    = "5eed0000-0000-4000-8000-000000000010"
)

func nothing(block.Device) error { return nil }

func swap(d block.Device) error {
	header := make([]byte, 12)
	binary.LittleEndian.PutUint32(header, 1)                         // version
	binary.LittleEndian.PutUint32(header[4:], sectors*sector/4096-1) // last page
	return errors.Join(block.WriteBytes(d, header, 1024), block.WriteBytes(d, []byte("SWAPSPACE2"), 4086))
}

func damaged(d block.Device) error {
	return errors.Join(healthy(d), block.WriteBytes(d, []byte("torn"), 1024+0x78))
}

// patchSuper changes four bytes of the superblock and seals it again.
func patchSuper(d block.Device, off int, v uint32) error {
	if err := healthy(d); err != nil {
		return err
	}
	raw, err := block.ReadSized(d, 1024, 1024, 1024)
	if err != nil {
		return err
	}
	binary.LittleEndian.PutUint32(raw[off:], v)
	binary.LittleEndian.PutUint32(raw[0x3FC:], ^crc32.Checksum(raw[:0x3FC], crc32.MakeTable(crc32.Castagnoli)))
	return block.WriteBytes(d, raw, 1024)
}

func unknownFeature(d block.Device) error { return patchSuper(d, 0x60, 0x400002C2) }
func tooLarge(d block.Device) error       { return patchSuper(d, 0x04, 99999) }
func fenced(d block.Device) error {
	return block.WriteBytes(d, fence.Encode(fence.Fence{Deed: "0001-ab"}), 1024)
}

// Rows is the table: at least one row for each rule.
func Rows(s Subject) []Row {
	return slices.Concat(s.mounts(), s.uses(), s.changes())
}

func (s Subject) mount(number int, where string) machine.Action {
	return machine.Action{Verb: machine.Mount, Device: s.Part(number), UseArgs: machine.UseArgs{Where: where}}
}

func (s Subject) mounted() []machine.Action { return []machine.Action{s.mount(1, "/srv/a")} }

func (s Subject) claim(start, size quantity.Bytes) *machine.Target {
	return &machine.Target{Device: s.Disk, Start: start, Size: size, Hold: machine.HoldContent}
}

func (s Subject) swapOn() machine.Action {
	return machine.Action{Verb: machine.SwapOn, Device: s.Part(3)}
}

func (s Subject) identify(number int) machine.Action {
	return machine.Action{Verb: machine.Identify, Device: s.Part(number), ContentArgs: machine.ContentArgs{ID: newID}}
}

func (s Subject) relabel() machine.Action {
	return machine.Action{Verb: machine.Relabel, Device: s.Part(1), ContentArgs: machine.ContentArgs{Label: "mosses"}}
}

// mounts are the rows of what is mounted, or lies where somebody sleeps.
func (s Subject) mounts() []Row {
	return []Row{
		{
			Rule:   machine.RuleNoDevice,
			Action: machine.Action{Verb: machine.Mount, Device: "sdz9", UseArgs: machine.UseArgs{Where: "/srv/a"}},
		},
		{Rule: machine.RuleNoContent, Action: s.mount(2, "/srv/a")},
		{
			Rule:   machine.RuleWrongKind,
			Action: machine.Action{Verb: machine.Mount, Device: s.Part(1), UseArgs: machine.UseArgs{Where: "/srv/a", Kind: "xfs"}},
		},
		{Rule: machine.RuleWrongKind, Action: s.mount(3, "/srv/a")},
		{Rule: machine.RuleDamaged, Action: s.mount(4, "/srv/a")},
		{Rule: machine.RuleFeature, Action: s.mount(5, "/srv/a")},
		{Rule: machine.RuleTooLarge, Action: s.mount(6, "/srv/a")},
		{Rule: machine.RuleFenced, Action: s.mount(7, "/srv/a")},
		{Rule: machine.RuleDirectory, Action: s.mount(1, "/srv/none")},
		{Rule: machine.RuleReadOnly, Action: s.mount(1, "/srv/a"), ReadOnly: true},
		{Rule: machine.RuleAsleep, Action: s.mount(1, "/srv/a"), Asleep: true, Ours: true},
		{Rule: machine.RuleAsleep, Target: s.claim(sectors*sector, sectors*sector), Asleep: true, Ours: true},
		{
			Rule:   machine.RuleAsleep,
			Target: &machine.Target{Device: s.Disk, Size: sector, Hold: machine.HoldTable},
			Asleep: true,
			Ours:   true,
		},
		{
			Rule: machine.RuleOption,
			Action: machine.Action{
				Verb:    machine.Mount,
				Device:  s.Part(1),
				UseArgs: machine.UseArgs{Where: "/srv/a", Options: "noatime,nosuchoption"},
			},
		},
		{
			Rule: machine.RuleOption,
			Action: machine.Action{
				Verb:    machine.Mount,
				Device:  s.Part(1),
				UseArgs: machine.UseArgs{Where: "/srv/a", Options: "errors=never"},
			},
		},
	}
}

// uses are those of what is in use.
func (s Subject) uses() []Row {
	return []Row{
		{Rule: machine.RuleReadOnly, Target: &machine.Target{Device: s.Disk}, ReadOnly: true},
		{Rule: machine.RuleMounted, First: s.mounted(), Target: s.claim(sectors*sector, sectors*sector)},
		{Rule: machine.RuleMounted, First: s.mounted(), Target: s.claim(0, Size)},
		{Rule: machine.RuleRoot, Target: &machine.Target{Device: s.RootDisk, Size: s.RootSize, Hold: machine.HoldContent}},
		{
			// The kernel would make it read-only.
			Rule:   machine.RuleRoot,
			Action: machine.Action{Verb: machine.Unmount, UseArgs: machine.UseArgs{Where: "/"}},
			Ours:   true,
		},
		{Rule: machine.RuleNotMounted, Action: machine.Action{Verb: machine.Unmount, UseArgs: machine.UseArgs{Where: "/srv/a"}}},
		{
			Rule:   machine.RuleBusy,
			First:  []machine.Action{s.mount(1, "/srv/a"), s.mount(8, "/srv/a/deep")},
			Action: machine.Action{Verb: machine.Unmount, UseArgs: machine.UseArgs{Where: "/srv/a"}},
		},
		{Rule: machine.RuleTableInUse, First: s.mounted(), Action: machine.Action{Verb: machine.ReadTable, Device: s.Disk}},
		{
			Rule:   machine.RulePartitionUse,
			First:  s.mounted(),
			Action: machine.Action{Verb: machine.RemovePartition, Device: s.Disk, PartArgs: machine.PartArgs{Number: 1}},
		},
		{Rule: machine.RuleSwapTwice, First: []machine.Action{s.swapOn()}, Action: s.swapOn()},
		{Rule: machine.RuleNotSwap, Action: machine.Action{Verb: machine.SwapOn, Device: s.Part(1)}},
		{
			Rule:   machine.RuleReadOnly,
			First:  []machine.Action{{Verb: machine.Mount, Device: s.Part(1), UseArgs: machine.UseArgs{Where: "/srv/a", Options: "ro"}}},
			Action: s.relabel(),
		},
		{
			Rule:   machine.RuleNoContent,
			Action: machine.Action{Verb: machine.Relabel, Device: s.Part(2), ContentArgs: machine.ContentArgs{Label: "mosses"}},
			Ours:   true,
		},
		{
			Rule:   machine.RuleMounted,
			First:  []machine.Action{s.swapOn()},
			Action: machine.Action{Verb: machine.Relabel, Device: s.Part(3), ContentArgs: machine.ContentArgs{Label: "mosses"}},
			Ours:   true,
		},
	}
}

// changes are those of what the kernel changes while it is in use.
func (s Subject) changes() []Row {
	return []Row{
		{
			Rule:   machine.RuleNoSystemd,
			Ours:   true,
			Action: machine.Action{Verb: machine.StartUnit, UseArgs: machine.UseArgs{From: "fern:/export", Where: "/srv/a", Kind: "nfs"}},
		},
		{
			Rule:   machine.RuleNoSystemd,
			Ours:   true,
			Action: machine.Action{Verb: machine.Start, UseArgs: machine.UseArgs{Unit: "srv-a.automount", Where: "/srv/a"}},
		},
		{
			Rule:   machine.RuleDirectory,
			Action: machine.Action{Verb: machine.Bind, UseArgs: machine.UseArgs{From: "/srv/none", Where: "/srv/a", Options: "bind"}},
		},
		{
			Rule:   machine.RuleNotMounted,
			Action: machine.Action{Verb: machine.Remount, UseArgs: machine.UseArgs{Where: "/srv/a", Options: "ro"}},
		},
		{
			Rule:   machine.RuleOption,
			First:  s.mounted(),
			Action: machine.Action{Verb: machine.Remount, UseArgs: machine.UseArgs{Where: "/srv/a", Options: "errors=never"}},
		},
		{
			Rule:   machine.RuleReadOnly,
			First:  []machine.Action{{Verb: machine.Mount, Device: s.Part(9), UseArgs: machine.UseArgs{Where: "/srv/a", Options: "ro"}}},
			Action: s.identify(9),
		},
		{
			Rule:  machine.RuleReadOnly,
			First: []machine.Action{{Verb: machine.Mount, Device: s.Part(1), UseArgs: machine.UseArgs{Where: "/srv/a", Options: "ro"}}},
			Action: machine.Action{
				Verb:        machine.Grow,
				Device:      s.Part(1),
				UseArgs:     machine.UseArgs{Kind: "ext4"},
				ContentArgs: machine.ContentArgs{Length: sectors * sector},
			},
		},
		{
			Rule:  machine.RuleTooLarge,
			First: s.mounted(),
			Action: machine.Action{
				Verb:        machine.Grow,
				Device:      s.Part(1),
				UseArgs:     machine.UseArgs{Kind: "ext4"},
				ContentArgs: machine.ContentArgs{Length: 2 * sectors * sector},
			},
		},
		{
			Rule: machine.RuleNotMounted,
			Ours: true,
			Action: machine.Action{
				Verb:        machine.Grow,
				Device:      s.Part(1),
				UseArgs:     machine.UseArgs{Kind: "ext4"},
				ContentArgs: machine.ContentArgs{Length: sectors * sector},
			},
		},
		{Rule: machine.RuleWrongKind, First: s.mounted(), Action: s.identify(1)}, // checksums hang on it
		{Rule: machine.RuleNoContent, Action: s.identify(2), Ours: true},
		{Rule: machine.RuleMounted, First: []machine.Action{s.swapOn()}, Action: s.identify(3), Ours: true},
		{Rule: machine.RuleNotSwap, Action: machine.Action{Verb: machine.SwapOff, Device: s.Part(3)}},
	}
}

// Run tries every row and says what went wrong. What is refused must be refused
// by the row's rule, and change nothing; every rule must have a row.
func Run(ctx context.Context, s Subject) (wrong []string) {
	proved := map[machine.Rule]bool{}
	for _, row := range Rows(s) {
		if err := s.row(ctx, row); err != nil {
			wrong = append(wrong, fmt.Sprintf("%s: %v", row.Rule, err))
		}
		proved[row.Rule] = true
	}
	for _, rule := range machine.Rules() {
		if !proved[rule] {
			wrong = append(wrong, fmt.Sprintf("rule %s has no row", rule))
		}
	}
	return wrong
}

// Actions are some that can be taken back; the disk's partitions are those of
// Prepare.
func Actions(s Subject) []machine.Action {
	const start, size = 2 * sectors * sector, sectors * sector
	return []machine.Action{
		{Verb: machine.Mount, Device: s.Part(1), UseArgs: machine.UseArgs{Where: "/srv/a"}},
		{Verb: machine.SwapOn, Device: s.Part(3)},
		{Verb: machine.ResizePartition, Device: s.Disk, PartArgs: machine.PartArgs{Number: 2, Start: start, Size: size / 2, Was: size}},
		{Verb: machine.RemovePartition, Device: s.Disk, PartArgs: machine.PartArgs{Number: 2, Start: start, Size: size}},
		{Verb: machine.Relabel, Device: s.Part(8), ContentArgs: machine.ContentArgs{Label: "mosses"}}, // on the device itself
		{Verb: machine.Identify, Device: s.Part(9), ContentArgs: machine.ContentArgs{ID: newID, FormerID: formerID}},
	}
}

// Mounted are actions that can be taken back while the file systems are mounted that they
// change.
func Mounted(s Subject) []machine.Action {
	return []machine.Action{
		{Verb: machine.Relabel, Device: s.Part(1), ContentArgs: machine.ContentArgs{Label: "mosses and ferns"}},
		{Verb: machine.Bind, Device: s.Part(1), UseArgs: machine.UseArgs{From: "/srv/a", Where: "/srv/b", Options: "bind,ro"}},
		{
			Verb:    machine.Remount,
			Device:  s.Part(1),
			UseArgs: machine.UseArgs{Where: "/srv/a", Kind: "ext4", Options: "ro", FormerOptions: "rw"},
		},
		{Verb: machine.Identify, Device: s.Part(9), ContentArgs: machine.ContentArgs{ID: newID, FormerID: formerID}},
	}
}

// RunActions carries each action out and back: what was done holds, what was
// taken back does not, and each is so before the other begins.
func RunActions(ctx context.Context, s Subject) (wrong []string) {
	m, err := s.Fresh()
	if err != nil {
		return []string{err.Error()}
	}
	for _, a := range Actions(s) {
		wrong = append(wrong, outAndBack(ctx, m, a)...)
	}
	for _, a := range Mounted(s) {
		mount := machine.Action{Verb: machine.Mount, Device: a.Device, UseArgs: machine.UseArgs{Where: "/srv/a"}}
		if err := m.Do(ctx, nil, mount); err != nil {
			return append(wrong, err.Error())
		}
		wrong = append(wrong, outAndBack(ctx, m, a)...)
		unmount, _ := mount.Inverse()
		if err := m.Do(ctx, nil, unmount); err != nil {
			return append(wrong, err.Error())
		}
	}
	return wrong
}

func outAndBack(ctx context.Context, m machine.Machine, a machine.Action) (wrong []string) {
	inverse, ok := a.Inverse()
	if !ok {
		return []string{fmt.Sprintf("%v has no inverse", a)}
	}
	for _, step := range []machine.Action{a, inverse} {
		before, errBefore := m.Holds(ctx, step)
		errDo := m.Do(ctx, nil, step)
		after, errAfter := m.Holds(ctx, step)
		if err := errors.Join(errBefore, errDo, errAfter); err != nil || before || !after {
			wrong = append(wrong, fmt.Sprintf("%v: held before %v, after %v: %v", step, before, after, err))
		}
	}
	return wrong
}

func (s Subject) row(ctx context.Context, row Row) error {
	m, err := s.Fresh()
	if err != nil {
		return err
	}
	for _, a := range row.First {
		if err := m.Do(ctx, nil, a); err != nil {
			return fmt.Errorf("before it: %w", err)
		}
	}
	if row.Asleep {
		if err := s.swapSays(ctx, m, "S1SUSPEND\x00"); err != nil {
			return err
		}
		defer s.swapSays(ctx, m, "SWAPSPACE2")
	}
	if row.ReadOnly {
		if err := s.SetReadOnly(true); err != nil {
			return err
		}
		defer s.SetReadOnly(false)
	}
	before, err := state(ctx, m)
	if err != nil {
		return err
	}
	err = try(ctx, m, row)
	var refusal *machine.Refusal
	if !errors.As(err, &refusal) || refusal.Rule != row.Rule {
		return fmt.Errorf("not refused by the rule, but: %w", err)
	}
	if after, err := state(ctx, m); err != nil || !reflect.DeepEqual(before, after) {
		return fmt.Errorf("the refusal changed something (%w)", err)
	}
	if s.Kernel != nil && !row.Ours && s.Kernel(row) == nil {
		return errors.New("the kernel itself does not refuse it")
	}
	return nil
}

// swapSays writes what stands at the end of the swap area's first page.
func (s Subject) swapSays(ctx context.Context, m machine.Machine, word string) error {
	const start, signature = 3 * sectors * sector, 4086
	claim, err := m.Claim(ctx, nil, []machine.Target{{Device: s.Disk, Start: start, Size: sectors * sector, Hold: machine.HoldContent}})
	if err != nil {
		return err
	}
	defer claim.Release()
	dev, err := claim.Device(s.Disk)
	if err != nil {
		return err
	}
	return errors.Join(block.WriteBytes(dev, []byte(word), start+signature), dev.Sync())
}

func try(ctx context.Context, m machine.Machine, row Row) error {
	if row.Target == nil {
		return m.Do(ctx, nil, row.Action)
	}
	claim, err := m.Claim(ctx, nil, []machine.Target{*row.Target})
	claim.Release()
	return err
}

// state is what an action could change: uses, and the kernel's partitions.
func state(ctx context.Context, m machine.Reader) (out []string, err error) {
	v, err := m.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	for _, u := range v.Uses {
		out = append(out, u.Node, string(u.How), u.Where)
	}
	for _, n := range v.Nodes {
		if n.InKernel {
			out = append(out, n.Name)
		}
	}
	return out, nil
}
