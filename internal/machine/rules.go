package machine

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mounts"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// Rule names one thing that a kernel refuses.
type Rule string

// The rules. Each is a row of the conformance test.
const (
	RuleNoDevice     Rule = "no-device"
	RuleNoContent    Rule = "no-content"
	RuleWrongKind    Rule = "wrong-kind"
	RuleDamaged      Rule = "damaged"
	RuleFeature      Rule = "unknown-feature"
	RuleTooLarge     Rule = "larger-than-device"
	RuleFenced       Rule = "fenced"
	RuleDirectory    Rule = "missing-directory"
	RuleReadOnly     Rule = "read-only-medium"
	RuleMounted      Rule = "in-use"
	RuleRoot         Rule = "carries-the-root"
	RuleNotMounted   Rule = "not-mounted"
	RuleBusy         Rule = "busy"
	RuleTableInUse   Rule = "table-in-use"
	RulePartitionUse Rule = "partition-in-use"
	RuleSwapTwice    Rule = "swap-twice"
	RuleNotSwap      Rule = "not-swap"
	RuleOption       Rule = "unknown-option"
	RuleAsleep       Rule = "hibernated"
	RuleFile         Rule = "file-cannot-be-replaced" // about text files, which no kernel judges
	RuleMemory       Rule = "memory-too-small"        // for what is swapped out; the kernel kills instead
	RuleExchange     Rule = "no-exchange"             // whose kernel exchanges no files
	RuleNoGrowth     Rule = "no-growth"               // of what is mounted, on a bench
	RuleNoSystemd    Rule = "no-systemd"              // to start what has a program of its own
)

// Rules lists every rule.
func Rules() []Rule {
	return []Rule{RuleNoDevice, RuleNoContent, RuleWrongKind, RuleDamaged, RuleFeature, RuleTooLarge, RuleFenced,
		RuleDirectory, RuleReadOnly,
		RuleMounted, RuleRoot, RuleNotMounted, RuleBusy, RuleTableInUse, RulePartitionUse, RuleSwapTwice, RuleNotSwap,
		RuleOption, RuleAsleep}
}

// Refusal is a rule that was broken: what, why, and what to do next.
type Refusal struct {
	Rule  Rule
	Thing string
	Text  string
	Next  way.Step
}

func (r *Refusal) Error() string {
	text := r.Thing + ": " + r.Text
	if len(r.Next.Words) == 0 && r.Next.Text != "" {
		text += "; " + r.Next.Text
	}
	return text
}

// Way is the command that leads on, where Next is one; a sentence is part of the text.
func (r *Refusal) Way() way.Step {
	if len(r.Next.Words) == 0 {
		return way.None()
	}
	return r.Next
}

func refuse(rule Rule, thing string, next way.Step, format string, args ...any) *Refusal {
	return &Refusal{rule, thing, fmt.Sprintf(format, args...), next}
}

// MountType is the type as which the action mounts the content.
func (a Action) MountType(c fs.Content) string {
	if a.Kind != "" && a.Kind != "auto" {
		return a.Kind
	}
	return c.MountType()
}

func checkMount(v *inventory.Inventory, a Action) *Refusal {
	n, ok := v.Node(a.Device)
	if !ok {
		return refuse(RuleNoDevice, a.Device, way.Survey(), "there is no such device")
	}
	if r := checkKnown(v, n); r != nil {
		return r
	}
	ask := mounts.Ask{On: n, Type: a.Kind, Options: fstab.Split(a.Options), Answers: v.Answers, Names: v.Names, Beside: mounts.Now(v)}
	if o := ask.Judge(); o != nil && !o.Unsure {
		return obstacle(n, ask, o)
	}
	switch {
	case !v.Dirs[a.Where] && !a.Make:
		return refuse(RuleDirectory, a.Where, way.Mount(n.Name, a.Where, "--make"), "there is no such directory")
	case n.Hardware.ReadOnly && !hasOption(a.Options, "ro"):
		return refuse(RuleReadOnly, n.Name, way.ByHand("add --options ro"), "the medium is read-only")
	}
	if r := checkAsleep(v, n, nil); r != nil && !hasOption(a.Options, "ro") {
		return r
	}
	return nil
}

// obstacle is what is against a mount as a rule, with the way on.
func obstacle(n inventory.Node, a mounts.Ask, o *mounts.Obstacle) *Refusal {
	c, _ := n.Content()
	next := map[mounts.Reason]struct {
		rule Rule
		next way.Step
	}{
		mounts.Unread: {RuleNoContent, way.Inspect(n.Name)}, mounts.Nothing: {RuleNoContent, way.Inspect(n.Name)},
		mounts.Fenced: {RuleFenced, way.Recover(c.UUID)}, mounts.Kind: {RuleWrongKind, way.None()},
		mounts.Damaged: {RuleDamaged, way.Inspect(n.Name)}, mounts.Features: {RuleFeature, way.ByHand("a newer kernel may know them")},
		mounts.TooLarge: {RuleTooLarge, way.ByHand("give the partition its former size again")}, mounts.Remount: {RuleOption, way.None()},
		mounts.Option: {RuleOption, way.Options(a.As())}, mounts.Busy: {RuleMounted, way.None()},
		mounts.Twin: {RuleMounted, way.Adjust(n.Name, "uuid=new,", "where", "it", "is", "a", "copy")},
	}[o.Reason]
	return refuse(next.rule, n.Name, next.next, "%s", o.Says)
}

// checkKnown refuses a partition that the table has and the kernel has not: there is no device of
// it to be mounted, or swapped on.
func checkKnown(v *inventory.Inventory, n inventory.Node) *Refusal {
	disk, _ := v.Node(n.Parent)
	switch {
	case n.Form != inventory.Partition || n.InKernel || v.Imaged(n):
		return nil
	case disk.Table != nil && disk.Table.Unseen != "":
		return refuse(RuleNoDevice, n.Name, way.TableRepair(disk.Name), "Linux sees no partition of %s: %s", disk.Name, disk.Table.Unseen)
	case n.Linux.Size == 0:
		return refuse(RuleNoDevice, n.Name, way.Verify(disk.Name), "the kernel makes no device of what the table says of it")
	}
	return refuse(RuleNoDevice, n.Name, way.Rescan(disk.Name), "the kernel has other partitions")
}

// refusedOptions says what the kernel has against the options, each of them; "" for nothing.
func refusedOptions(v *inventory.Inventory, typ, options string, c fs.Content) string {
	var bad []string
	for _, f := range kind.Options(typ).CheckBy(fstab.Split(options), c.Has, v.Answers[typ]) {
		if f.Trouble.Refused() {
			bad = append(bad, f.Says)
		}
	}
	return strings.Join(bad, "; ")
}

func checkUnmount(v *inventory.Inventory, a Action) *Refusal {
	use, ok := v.MountedAt(a.Where)
	if other, there := v.OtherAt(a.Where); there {
		use, ok = other, true
		if kernels(a.Where) {
			return refuse(RuleRoot, a.Where, way.None(), "the running system needs the %s that is mounted there", other.Kind)
		}
	}
	if !ok {
		return refuse(RuleNotMounted, a.Where, way.Survey(), "nothing is mounted there")
	}
	if a.Where == "/" {
		return refuse(RuleRoot, cmp.Or(use.Node, "/"), way.None(), "it carries the running system's root")
	}
	for _, u := range v.Uses {
		if u.How == inventory.Mounted && strings.HasPrefix(u.Where, a.Where+"/") && !a.Detach {
			return refuse(RuleBusy, a.Where, way.Unmount(a.Where, "--below"), "it is busy: %s is mounted at %s", u.Node, u.Where)
		}
	}
	return nil
}

// kernels reports whether the place is one at which the system keeps what the kernel shows of
// itself, or what it does not work without.
func kernels(where string) bool {
	for _, dir := range []string{"/proc", "/sys", "/dev", "/run"} {
		if where == dir || strings.HasPrefix(where, dir+"/") {
			return true
		}
	}
	return false
}

// checkStart refuses where nobody runs who could start a unit.
func checkStart(v *inventory.Inventory, a Action) *Refusal {
	if !v.Machine.Systemd {
		return refuse(RuleNoSystemd, a.Where, way.None(),
			"%s is mounted by systemd or a program of its own, and systemd does not run here", orFileSystem(a.Kind))
	}
	return nil
}

// CheckGather refuses a place whose files the kernel does not put together, and gives how it
// does.
func CheckGather(v *inventory.Inventory, place string) (kind.Exchange, error) {
	on, ok := v.MountOf(place)
	if other, there := v.OtherAt(on.Where); there && other.Number > on.Number {
		on, ok = other, true
	}
	for _, o := range v.Others { // one that lies deeper
		if len(o.Where) > len(on.Where) && (place == o.Where || strings.HasPrefix(place, o.Where+"/")) {
			on, ok = o, true
		}
	}
	how := kind.ExchangeOf(on.Kind)
	switch {
	case !ok || how == "":
		return "", refuse(RuleExchange, place, way.None(),
			"it is on %s, where the kernel cannot exchange files; it can on ext4 and XFS", orFileSystem(on.Kind))
	case on.ReadOnly:
		return "", refuse(RuleReadOnly, place, way.None(), "%s is mounted read-only", on.Where)
	case hasOption(on.Super, "data=journal"):
		return "", refuse(RuleExchange, place, way.None(), "%s is mounted with data=journal, where the kernel exchanges nothing", on.Where)
	}
	return how, nil
}

// checkBind refuses a directory or a place that is not there.
func checkBind(v *inventory.Inventory, a Action) *Refusal {
	switch {
	case !v.Dirs[a.From]:
		return refuse(RuleDirectory, a.From, way.None(), "there is no such directory")
	case !v.Dirs[a.Where] && !a.Make:
		return refuse(RuleDirectory, a.Where, way.Mount(a.From, a.Where, "--options=bind", "--make"), "there is no such directory")
	}
	return nil
}

// checkRemount refuses other options than the kernel takes, and a place where nothing is.
func checkRemount(v *inventory.Inventory, a Action) *Refusal {
	use, ok := v.MountedAt(a.Where)
	if !ok {
		return refuse(RuleNotMounted, a.Where, way.Survey(), "nothing is mounted there")
	}
	n := nodeOf(v, use.Node)
	c, _ := n.Content()
	if bad := refusedOptions(v, use.Kind, a.Options, c); bad != "" {
		return refuse(RuleOption, use.Node, way.Options(use.Kind), "the kernel refuses that: %s", bad)
	}
	if n.Hardware.ReadOnly && hasOption(a.Options, "rw") {
		return refuse(RuleReadOnly, use.Node, way.None(), "the medium is read-only")
	}
	if r := checkAsleep(v, n, nil); r != nil && hasOption(a.Options, "rw") {
		return r
	}
	return nil
}

// Mounts are the mounts of the node in this system, those for writing first.
func Mounts(v *inventory.Inventory, node string) (out []inventory.Use) {
	for _, u := range v.UsesOf(node) {
		if u.How == inventory.Mounted && u.Elsewhere == "" {
			out = append(out, u)
		}
	}
	slices.SortStableFunc(out, func(a, b inventory.Use) int {
		return cmp.Compare(len(readOnlyWords(a)), len(readOnlyWords(b)))
	})
	return out
}

// readOnlyWords says how a mount is for reading alone: the superblock, or the mount itself.
func readOnlyWords(u inventory.Use) string {
	if u.ReadOnly || hasOption(u.Options, "ro") {
		return "read-only"
	}
	return ""
}

// checkRelabel refuses a label that the kernel would not write: it does so for a mounted
// file system by its own call, and where none is mounted the device is free to be written.
func checkRelabel(v *inventory.Inventory, a Action) *Refusal {
	n, c, r := contentOf(v, a, "a label")
	if r != nil {
		return r
	}
	k, _ := kind.Of(c)
	return checkThroughMount(v, n, c, k.SetLabel != nil, k.Relabels)
}

// checkIdentify is the same for an identifier, which the kernel gives to some alone.
func checkIdentify(v *inventory.Inventory, a Action) *Refusal {
	n, c, r := contentOf(v, a, "an identifier")
	if r != nil {
		return r
	}
	k, _ := kind.Of(c)
	if mounts := Mounts(v, n.Name); len(mounts) > 0 && k.LiveID != nil {
		if err := k.LiveID(c); err != nil {
			return refuse(RuleWrongKind, n.Name, way.Unmount(mounts[0].Where),
				"the kernel does not change its identifier while it is mounted: %v", err)
		}
	}
	return checkThroughMount(v, n, c, k.SetID != nil, k.LiveID != nil)
}

// Grows reports whether the machine makes mounted ones of the kind larger: a bench does to the
// bytes what the kernel would, where that is known.
func Grows(v *inventory.Inventory, k kind.Kind) bool {
	return k.Growing != nil && (v.Machine.Kind != "bench" || k.Simulation != nil && k.Simulation.Grown != nil)
}

// checkGrow refuses what the kernel would not make larger: it does so for some kinds, while
// they are mounted for writing.
func checkGrow(v *inventory.Inventory, a Action) *Refusal {
	n, ok := v.Node(a.Device)
	c, holds := n.Content()
	k, _ := kind.Of(c)
	mounts := Mounts(v, a.Device)
	switch {
	case !ok:
		return refuse(RuleNoDevice, a.Device, way.Survey(), "there is no such device")
	case !holds || k.Growing == nil:
		return refuse(RuleWrongKind, n.Name, way.None(), "the kernel makes no %s larger", orNothing(advice.Holds(n)))
	case !Grows(v, k):
		return refuse(RuleNoGrowth, n.Name, way.None(), "a bench does not make a mounted %s larger", c.Kind)
	case len(mounts) == 0:
		return refuse(RuleNotMounted, n.Name, way.Mount(n.Name), "it is not mounted")
	case !slices.Contains(k.Growing.Types, mounts[0].Kind):
		return refuse(RuleWrongKind, n.Name, way.Unmount(mounts[0].Where),
			"the kernel makes nothing larger that is mounted as %s", mounts[0].Kind)
	case mounts[0].ReadOnly:
		return refuse(RuleReadOnly, n.Name, way.Mount(mounts[0].Where, "--remount", "--options=rw"), "it is mounted read-only")
	case a.Length > n.Size:
		return refuse(RuleTooLarge, n.Name, way.None(), "it would have %d bytes, and the device has %d", a.Length, n.Size)
	}
	return nil
}

// contentOf finds what the action's device holds; one that holds nothing has none of what is
// named.
func contentOf(v *inventory.Inventory, a Action, what string) (inventory.Node, fs.Content, *Refusal) {
	n, ok := v.Node(a.Device)
	if !ok {
		return n, fs.Content{}, refuse(RuleNoDevice, a.Device, way.Survey(), "there is no such device")
	}
	c, ok := n.Content()
	if !ok {
		return n, c, refuse(RuleNoContent, n.Name, way.Inspect(n.Name), "it holds nothing that could have %s (%s)",
			what, orNothing(advice.Holds(n)))
	}
	return n, c, nil
}

// checkThroughMount: what is mounted is changed by the kernel's own call, where it has one
// and may write; what is not, on the device.
func checkThroughMount(v *inventory.Inventory, n inventory.Node, c fs.Content, offline, call bool) *Refusal {
	mounts := Mounts(v, n.Name)
	switch {
	case len(mounts) == 0 && offline:
		return claimRefused(v, n)
	case !call || len(mounts) == 0:
		return refuse(RuleWrongKind, n.Name, way.None(), "the kernel has no call for that on a mounted %s", c.Kind)
	case readOnlyWords(mounts[0]) != "":
		return refuse(RuleReadOnly, n.Name, way.Unmount(mounts[0].Where),
			"it is mounted at %s read-only, and the kernel writes nothing through that", mounts[0].Where)
	}
	return checkAsleep(v, n, nil)
}

// claimRefused says why all of the node's bytes cannot be written to now, or nil.
func claimRefused(v *inventory.Inventory, n inventory.Node) (refusal *Refusal) {
	errors.As(CheckClaim(v, Whole(n, HoldContent)), &refusal)
	return refusal
}

// checkDiscard lets nobody lose what is in use.
func checkDiscard(v *inventory.Inventory, a Action) *Refusal {
	n, ok := v.Node(a.Device)
	if !ok {
		return refuse(RuleNoDevice, a.Device, way.Survey(), "there is no such device")
	}
	return claimRefused(v, n)
}

func checkSwap(v *inventory.Inventory, a Action) *Refusal {
	if a.Device == "" && a.Where != "" { // a file
		return checkSwapFile(v, a)
	}
	n, ok := v.Node(a.Device)
	if !ok {
		return refuse(RuleNoDevice, a.Device, way.Survey(), "there is no such device")
	}
	if r := cmp.Or(checkKnown(v, n), checkAsleep(v, n, nil)); r != nil && a.Verb == SwapOn {
		return r
	}
	active := false
	for _, u := range v.UsesOf(n.Name) {
		active = active || u.How == inventory.SwapOn
	}
	c, isSwap := n.Content()
	switch {
	case a.Verb == SwapOn && active:
		return refuse(RuleSwapTwice, n.Name, way.None(), "it is already used as swap")
	case a.Verb == SwapOff && !active:
		return refuse(RuleNotSwap, n.Name, way.None(), "it is no swap area in use (%s)", orNothing(advice.Holds(n)))
	case a.Verb == SwapOn && n.Holding() == inventory.Empty:
		return refuse(RuleNotSwap, n.Name, way.Format(n.Name, "swap"), "it is empty, and no swap area yet")
	case a.Verb == SwapOn && mounts.WrongPage(c) != "":
		return refuse(RuleNotSwap, n.Name, way.Inspect(n.Name), "%s", mounts.WrongPage(c))
	case a.Verb == SwapOn && (!isSwap || c.Class != fs.Swap):
		return refuse(RuleNotSwap, n.Name, way.SwapList(), "it is no swap area (%s)", orNothing(advice.Holds(n)))
	}
	return nil
}

func checkSwapFile(v *inventory.Inventory, a Action) *Refusal {
	active := slices.ContainsFunc(v.Areas, func(o inventory.Area) bool { return o.Path == a.Where })
	switch {
	case a.Verb == SwapOn && active:
		return refuse(RuleSwapTwice, a.Where, way.None(), "it is already used as swap")
	case a.Verb == SwapOff && !active:
		return refuse(RuleNotSwap, a.Where, way.None(), "it is no swap area in use")
	}
	return nil
}

func checkForget(v *inventory.Inventory, a Action) *Refusal {
	for _, n := range v.Parts(a.Device) {
		if n.Number == a.Number {
			if use, used := inUse(v, n.Name); used {
				return refuse(RulePartitionUse, n.Name, release(use), "the kernel does not forget it while it is %s", describeUse(use))
			}
		}
	}
	return nil
}

func checkReadTable(v *inventory.Inventory, a Action) *Refusal {
	for _, n := range v.Family(a.Device) {
		if use, used := inUse(v, n.Name); used {
			return refuse(RuleTableInUse, a.Device, release(use),
				"the kernel does not read the table again while %s is %s", n.Name, describeUse(use))
		}
	}
	return nil
}

// CheckClaim gives the first rule that claiming the target breaks, or nil.
func CheckClaim(v *inventory.Inventory, t Target) error {
	disk, ok := v.Node(t.Device)
	if !ok {
		return refuse(RuleNoDevice, t.Device, way.Survey(), "there is no such device")
	}
	if disk.Hardware.ReadOnly && disk.Form == inventory.Image {
		return refuse(RuleReadOnly, t.Device, way.Other("chmod", "u+w", t.Device).Where("if it is to be changed"),
			"its mode lets nobody write to it")
	}
	if disk.Hardware.ReadOnly {
		return refuse(RuleReadOnly, t.Device, way.ByHand("it may have a switch for that"), "the medium is read-only")
	}
	if r := checkAsleep(v, disk, &t); r != nil {
		return r
	}
	if t.Hold == HoldTable {
		return nil
	}
	for _, n := range v.Family(t.Device) {
		node := extent.Span{Start: uint64(n.Start), Count: uint64(n.Size)}
		if n.Parent != "" && !node.Overlaps(t.Span()) {
			continue
		}
		for _, use := range v.UsesOf(n.Name) {
			if t.Hold == HoldBeside && !usesAny(use, node.Start, t.Span()) {
				continue
			}
			if use.Where == "/" && use.How == inventory.Mounted {
				return refuse(RuleRoot, n.Name, way.None(), "it carries the running system's root")
			}
			return refuse(RuleMounted, n.Name, release(use), "it is %s", describeUse(use))
		}
	}
	return nil
}

// checkAsleep refuses every change of a machine's disks while the memory of a system that
// hibernates lies on one of them: when that wakes up it goes on with what it knew of the
// disks, and destroys what was written meanwhile. Only that very area may be written over:
// then it does not wake up. An image is no disk of the machine.
func checkAsleep(v *inventory.Inventory, on inventory.Node, t *Target) *Refusal {
	if v.Imaged(on) {
		return nil
	}
	for _, n := range v.Nodes {
		c, ok := n.Content()
		if !ok || c.State != fs.Asleep || v.Imaged(n) {
			continue
		}
		if t != nil && t.Hold == HoldContent && *t == Whole(n, HoldContent) {
			continue
		}
		return refuse(RuleAsleep, on.Name, way.ByHand("start that system, or discard it: fundus help erase"),
			"a system sleeps in the swap area on %s: when it wakes up it destroys what was changed meanwhile", n.Name)
	}
	return nil
}

// usesAny reports whether the use is of any byte of the span on the disk, of which the
// node begins at start; one of which nothing else is known is of all bytes.
func usesAny(u inventory.Use, start uint64, span extent.Span) bool {
	return u.Spans == nil || slices.ContainsFunc(u.Spans, func(s extent.Span) bool {
		return (extent.Span{Start: start + s.Start, Count: s.Count}).Overlaps(span)
	})
}

func inUse(v *inventory.Inventory, node string) (inventory.Use, bool) {
	uses := v.UsesOf(node)
	if len(uses) == 0 {
		return inventory.Use{}, false
	}
	return uses[0], true
}

// InUse refuses what is used, with the words that lead to that.
func InUse(thing, why string, u inventory.Use) *Refusal {
	return refuse(RuleMounted, thing, release(u), "%s %s", why, describeUse(u))
}

func describeUse(u inventory.Use) string {
	switch u.How {
	case inventory.Mounted:
		return strings.TrimSpace("mounted at " + u.Where + " " + u.Elsewhere)
	case inventory.Held:
		return "held by " + u.Where
	}
	return "used as swap"
}

func release(u inventory.Use) way.Step {
	switch {
	case u.How == inventory.Mounted && u.Elsewhere != "":
		return way.ByHand("it must be unmounted there first")
	case u.How == inventory.Mounted && u.Where != "/":
		return way.Unmount(u.Where)
	case u.How == inventory.SwapOn:
		return way.SwapOff(u.Node)
	case u.How == inventory.Held:
		return way.ByHand("take " + u.Where + " apart first")
	}
	return way.None()
}

func hasOption(options, word string) bool {
	for o := range strings.SplitSeq(options, ",") {
		if o == word {
			return true
		}
	}
	return false
}

func orNothing(s string) string {
	if s == "" {
		return "it is empty"
	}
	return "it holds " + s
}

func orFileSystem(kind string) string {
	if kind == "" {
		return "a file system"
	}
	return kind
}

// About names the thing in an error that does not name it itself, as a refusal does.
func About(thing string, err error) error {
	if err == nil {
		return nil
	}
	var refusal *Refusal
	if errors.As(err, &refusal) {
		return err
	}
	return fmt.Errorf("%s: %w", thing, err)
}
