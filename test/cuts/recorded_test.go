package cuts

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/internal/deed"
)

// A run before a cut does not depend on where it is cut, nor on the seed. So it is done
// once, on a device that notes each operation and how far the deed's log was then; for a
// cut the operations before it are carried out again, on a device whose power goes.

// operation is one write, zeroing or sync, and what else was so when it was asked for.
type operation struct {
	off, n int64
	data   []byte // nil: zeros
	sync   bool
	log    int64 // bytes of the deed's log
	known  []inventory.KernelPart
}

// run is what was recorded.
type run struct {
	start *rig
	store *deed.Store // as it was in the end
	deed  *deed.Deed  // that was carried out, or recovered
	ops   []operation
}

// recording is a device that notes what is asked of it.
type recording struct {
	block.Device
	rig *rig
}

func (r recording) note(op operation) {
	op.known = slices.Clone(r.rig.known)
	if info, err := os.Stat(r.rig.recorder.logPath()); err == nil {
		op.log = info.Size()
	}
	r.rig.recorder.ops = append(r.rig.recorder.ops, op)
}

func (r recording) WriteAt(p []byte, off int64) (int, error) {
	r.note(operation{off: off, n: int64(len(p)), data: slices.Clone(p)})
	return r.Device.WriteAt(p, off)
}

func (r recording) WriteZeroes(off, n int64) error {
	r.note(operation{off: off, n: n})
	return r.Device.WriteZeroes(off, n)
}

func (r recording) Sync() error {
	r.note(operation{sync: true})
	return r.Device.Sync()
}

// logPath is the log of the newest deed, which is the one that is under way.
func (x *run) logPath() string {
	dirs, err := filepath.Glob(filepath.Join(x.store.Dir, "deeds", "*"))
	if err != nil || len(dirs) == 0 {
		return ""
	}
	return filepath.Join(slices.Max(dirs), "log")
}

// record does it on a copy of the rig, with the store, and gives the copy as it is then.
func record(t testing.TB, start *rig, store *deed.Store, do func(r *rig) error) (*run, *rig) {
	t.Helper()
	x := &run{start: start, store: store}
	r := start.apart(t)
	r.recorder = x
	if err := do(r); err != nil {
		t.Fatalf("uncut: %v", err)
	}
	r.recorder, r.faulty = nil, nil
	all, err := store.List()
	if err != nil || len(all) == 0 {
		t.Fatalf("%d deeds, %v", len(all), err)
	}
	x.deed = all[0]
	return x, r
}

// at gives the machine and the store as they are when the power goes before operation
// n; a seeded choice of what was not synced is on the medium then.
func (x *run) at(t testing.TB, n int, seed uint64) (*rig, *deed.Store) {
	t.Helper()
	r := x.start.apart(t)
	faulty := block.NewFaulty(r.medium, block.Fault{FailAt: block.Never, CutAt: n, Seed: seed, ReadErrorAt: block.Never})
	for _, op := range x.ops[:n+1] {
		if err := op.again(faulty); err != nil && !errors.Is(err, block.ErrPowerLost) {
			t.Fatal(err)
		}
	}
	op := x.ops[n]
	r.known, r.areas = slices.Clone(op.known), nil // without power nothing is swapped on
	store := linked(t, x.store)
	log := filepath.Join(store.Dir, "deeds", x.deed.ID, "log")
	if err := os.Truncate(log, op.log); err != nil {
		t.Fatal(err)
	}
	if x.start.files {
		applied(t, r.root, x.deed, log)
	}
	return r, store
}

func (op operation) again(dev block.Device) error {
	switch {
	case op.sync:
		return dev.Sync()
	case op.data == nil:
		return dev.WriteZeroes(op.off, op.n)
	}
	_, err := dev.WriteAt(op.data, op.off)
	return err
}

// linked is a store of the same deeds: what is never written again is linked, the logs
// are copied.
func linked(t testing.TB, from *deed.Store) *deed.Store {
	t.Helper()
	to := storeIn(t)
	err := filepath.WalkDir(from.Dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(from.Dir, path)
		there := filepath.Join(to.Dir, rel)
		switch {
		case d.IsDir():
			return os.MkdirAll(there, 0o700)
		case d.Name() == "lock":
			return nil
		case d.Name() == "log":
			data, err := os.ReadFile(path)
			return errors.Join(err, os.WriteFile(there, data, 0o600))
		}
		return os.Link(path, there)
	})
	if err != nil {
		t.Fatal(err)
	}
	return to
}
