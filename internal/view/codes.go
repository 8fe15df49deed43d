package view

import (
	"maps"
	"slices"

	"fundus/core/progress"
	"fundus/core/refused"
	"fundus/internal/draft"
	"fundus/internal/look"
)

// Documents have codes where people read words: closed lists, to which words are added and of which
// none changes. What the program says inside may be put otherwise at any time.

func verdicts() map[string]string {
	return map[string]string{"comes up": "comes-up", "comes up with delays": "with-delays",
		"comes up without mounts that fstab asks for": "without-mounts", "unknown": "unknown",
		"waits for ever": "waits-for-ever", "emergency shell": "emergency-shell", "does not find its root": "no-root"}
}

func outcomes() map[string]string {
	return map[string]string{"mounted": "mounted", look.SwapOn: "on", "not at boot": "not-at-boot", "left to the network": "network",
		"passed over": "passed-over", "unknown": "unknown", "left out": "left-out",
		"not mounted": "not-mounted", "delays the boot": "delays", "emergency shell": "emergency-shell"}
}

func contentStates() map[string]string {
	return map[string]string{"in order": "clean", "not cleanly unmounted": "not-unmounted",
		"needs journal recovery": "journal", "errors recorded": "errors", "damaged superblock": "damaged",
		"hibernated": "asleep", "not recorded": "not-recorded", "in use": "in-use"}
}

func contentClasses() map[string]string {
	return map[string]string{
		"file system":     "file-system",
		"swap":            "swap",
		"partition table": "table",
		"fence":           "fence",
		"member":          "member",
		"encrypted":       "encrypted",
	}
}

func jobResults() map[string]string {
	return map[string]string{
		"done":      "done",
		"was so":    "was-so",
		"otherwise": "differs",
		"left out":  "left-out",
		"failed":    "failed",
		"systemd's": "systemd",
	}
}

func deedStates() map[string]string {
	return map[string]string{"damaged": "damaged", "cut short": "cut-short", "undone": "undone", "taken back": "taken-back", "done": "done"}
}

func unitStates() map[string]string {
	return map[string]string{
		look.UnitMounted: "mounted",
		look.UnitWaiting: "waiting",
		look.UnitOn:      "on",
		look.UnitIdle:    "idle",
		look.UnitMasked:  "masked",
	}
}

// swapProblems are what keeps an area from being used: what it holds, or that it is not there.
func swapProblems() map[string]string {
	list := contentStates()
	delete(list, "in order")
	list[look.SwapAbsent] = "absent"
	return list
}

// writeCaches are the kernel's two words (queue/write_cache of a disk in sysfs).
func writeCaches() map[string]string {
	return map[string]string{"write back": "write-back", "write through": "write-through"}
}

func directions() map[string]string {
	return map[string]string{"back": "back", "forward": "forward", "as it is": "as-it-is"}
}

// Closed has the lists of words, by the names that the fields of documents say.
func Closed() map[string][]string {
	values := func(m map[string]string) []string {
		out := slices.Sorted(maps.Values(m))
		return slices.Compact(out)
	}
	return map[string][]string{
		"verdict": values(verdicts()), "outcome": values(outcomes()), "content-state": values(contentStates()),
		"class": values(contentClasses()), "result": values(jobResults()),
		"unit-state": values(unitStates()), "at-boot": {"required", "wanted", "later", "no"},
		"swap-problem": values(swapProblems()), "write-cache": values(writeCaches()),
		"deed-state": values(deedStates()), "direction": values(directions()),
		"error": wordsOf(refused.IDs()), "need": wordsOf(draft.NeedIDs()), "role": wordsOf(draft.ResultRoles()),
		"undo": wordsOf(draft.Grades()), "step": wordsOf(draft.StepKinds()),
		"moment": wordsOf(progress.Moments()), "event": {"added", "changed", "removed", "missed"},
		"can-undo": {"yes", "later", "no"},
		"state":    {"untouched", "drafted", "midway", "partly"}, "severity": {"note", "warning", "error"},
		"form": {"disk", "array", "volume", "partition", "image"}, "use": {"mounted", "swap", "held"},
		"layer": {"disk", "device", "partition", "content"}, "scheme": {"gpt", "mbr"}, "mounted": {"yes", "no", "in-use", "differs"},
	}
}

func wordsOf[T ~string](list []T) (out []string) {
	for _, w := range list {
		out = append(out, string(w))
	}
	return out
}
