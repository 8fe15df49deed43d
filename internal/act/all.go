package act

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/text/fstab"
	"fundus/internal/task"
	"fundus/internal/task/mount"
)

// Outcome is what became of one of several.
type Outcome string

// The outcomes.
const (
	Done      Outcome = "done"
	Was       Outcome = "was so"
	Otherwise Outcome = "otherwise" // it is mounted, and not as the line says
	LeftOut   Outcome = "left out"
	Failed    Outcome = "failed"
	Systemds  Outcome = "systemd's"
)

// Job is one of several that are carried out each by itself, so that one that fails keeps no
// other from its turn.
type Job struct {
	Line    int // of fstab, 0 for none
	Thing   string
	Request task.Request // nil where nothing is to be done
	Result  Outcome
	Reason  string
}

// MountAll lists the lines of fstab as what mounts each, those first that others lie below.
// Directories that are missing are made where that is asked for.
func MountAll(v *inventory.Inventory, missing bool) (jobs []Job) {
	for _, u := range v.Units() {
		if u.Entry.IsSwap() {
			continue
		}
		j := mountJob(v, u)
		if m, is := j.Request.(*mount.Mount); is {
			m.Make = missing && !mount.OfOther(v, u)
		}
		jobs = append(jobs, j)
	}
	slices.SortStableFunc(jobs, func(a, b Job) int {
		return cmp.Compare(strings.Count(strings.TrimSuffix(a.Thing, "/"), "/"), strings.Count(strings.TrimSuffix(b.Thing, "/"), "/"))
	})
	return jobs
}

func mountJob(v *inventory.Inventory, u fstab.Unit) Job {
	e := u.Entry
	j := Job{Line: u.Line, Thing: cmp.Or(u.Where, e.Dir), Result: LeftOut}
	is, mounted := v.MountedAt(u.Where)
	found := v.Resolve(e.Spec)
	device := strings.HasPrefix(e.Spec, "/dev/") || strings.Contains(e.Spec, "=")
	switch {
	case u.None != "":
		j.Reason = string(u.None)
	case mounted && device && !slices.ContainsFunc(found, func(n inventory.Node) bool { return n.Name == is.Node }):
		j.Result, j.Reason = Otherwise, fmt.Sprintf("%s is mounted there, the line says %s", is.Node, orNobody(e.Spec, found))
	case mounted:
		j.Result = Was
		if differ := kind.Options(is.Kind).Differ(e.Options, is.Options, is.Super); len(differ) > 0 {
			j.Result, j.Reason = Otherwise, strings.Join(differ, ", ")
		}
	case e.NoAuto():
		j.Reason = "noauto"
	case u.Automount && v.Machine.Systemd: // else nobody waits for the first access
		j.Result, j.Reason = Systemds, "it is mounted at the first access"
	case mount.OfOther(v, u):
		if _, there := v.OtherAt(u.Where); there {
			j.Result = Was
		} else if j.Request = task.Request(&mount.Mount{Target: u.Where}); !v.Machine.Systemd {
			j.Request, j.Result, j.Reason = nil, Systemds, fmt.Sprintf("%s (%s) is mounted by systemd, which does not run here", e.Spec, e.Type)
		}
	case len(found) == 0:
		j.Result, j.Reason = Failed, "no device has "+e.Spec
		if e.NoFail() {
			j.Result = LeftOut
			j.Reason += ", and nofail says that it may be absent"
		}
	default:
		j.Request = &mount.Mount{Target: e.Dir}
	}
	return j
}

// orNobody is what a line's word for a device stands for now.
func orNobody(spec string, found []inventory.Node) string {
	if len(found) == 0 {
		return spec + ", which no device has"
	}
	return found[0].Name
}

// UnmountAll lists what is mounted of devices, the innermost first, but the root and what it
// needs.
func UnmountAll(v *inventory.Inventory) (jobs []Job) {
	for i, u := range slices.Backward(v.Uses) { // of several at one place the newest is last
		if u.How != inventory.Mounted || u.Elsewhere != "" {
			continue
		}
		j := Job{Thing: u.Where, Request: &mount.Unmount{Target: u.Where}}
		if needed := []string{"/", "/usr", "/boot", "/boot/efi"}; slices.Contains(needed, path.Clean(u.Where)) {
			j.Request, j.Result, j.Reason = nil, LeftOut, "the running system needs it"
		}
		if slices.ContainsFunc(v.Uses[:i], func(o inventory.Use) bool { return o.How == u.How && o.Where == u.Where && o.Node != u.Node }) {
			j.Reason = u.Node
		}
		jobs = append(jobs, j)
	}
	slices.SortStableFunc(jobs, func(a, b Job) int { return cmp.Compare(strings.Count(b.Thing, "/"), strings.Count(a.Thing, "/")) })
	return jobs
}

// SwapAll lists the areas that lines of fstab turn on at boot.
func SwapAll(v *inventory.Inventory) (jobs []Job) {
	for _, u := range v.Units() {
		e := u.Entry
		if !e.IsSwap() || u.None != "" {
			continue
		}
		j := Job{Line: u.Line, Thing: e.Spec, Result: LeftOut}
		found := v.Resolve(e.Spec)
		switch {
		case v.AreaAt(e.Spec):
			j.Result = Was
		case len(found) == 1 && v.SwapsOn(found[0].Name):
			j.Thing, j.Result = found[0].Name, Was
		case e.NoAuto():
			j.Reason = "noauto"
		case len(found) == 0 && v.Sources[e.Spec]: // a file
			j.Request = &mount.SwapOn{Target: e.Spec}
		case len(found) == 0:
			j.Result, j.Reason = Failed, "no device has "+e.Spec
		case len(found) > 1:
			j.Result, j.Reason = Failed, fmt.Sprintf("%d devices carry %s", len(found), e.Spec)
		default:
			j.Thing, j.Request = found[0].Name, &mount.SwapOn{Target: found[0].Name}
		}
		jobs = append(jobs, j)
	}
	return jobs
}
