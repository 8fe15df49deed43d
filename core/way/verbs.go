package way

import "strings"

// A function for each verb. They are held against the commands that there are.

func step(verb string, words []string) Step {
	return Step{Words: append(append([]string{program}, strings.Fields(verb)...), words...)}
}

// Adjust is fundus adjust.
func Adjust(words ...string) Step { return step("adjust", words) }

// BenchBoot is fundus bench boot.
func BenchBoot(words ...string) Step { return step("bench boot", words) }

// BenchNew is fundus bench new.
func BenchNew(words ...string) Step { return step("bench new", words) }

// Commit is fundus commit.
func Commit(words ...string) Step { return step("commit", words) }

// DeedList is fundus deed list.
func DeedList(words ...string) Step { return step("deed list", words) }

// DeedRemove is fundus deed remove.
func DeedRemove(words ...string) Step { return step("deed remove", words) }

// DeedShow is fundus deed show.
func DeedShow(words ...string) Step { return step("deed show", words) }

// DraftList is fundus draft list.
func DraftList(words ...string) Step { return step("draft list", words) }

// DraftRemove is fundus draft remove.
func DraftRemove(words ...string) Step { return step("draft remove", words) }

// Format is fundus format.
func Format(words ...string) Step { return step("format", words) }

// FstabAdd is fundus fstab add.
func FstabAdd(words ...string) Step { return step("fstab add", words) }

// FstabCheck is fundus fstab check.
func FstabCheck(words ...string) Step { return step("fstab check", words) }

// FstabDisable is fundus fstab disable.
func FstabDisable(words ...string) Step { return step("fstab disable", words) }

// FstabEdit is fundus fstab edit.
func FstabEdit(words ...string) Step { return step("fstab edit", words) }

// FstabList is fundus fstab list.
func FstabList(words ...string) Step { return step("fstab list", words) }

// FstabRestore is fundus fstab restore.
func FstabRestore(words ...string) Step { return step("fstab restore", words) }

// Gather is fundus gather.
func Gather(words ...string) Step { return step("gather", words) }

// Help is fundus help.
func Help(words ...string) Step {
	return step("help", strings.Fields(strings.Join(words, " ")))
}

// Inspect is fundus inspect.
func Inspect(words ...string) Step { return step("inspect", words) }

// Label is fundus label.
func Label(words ...string) Step { return step("label", words) }

// SwapAdd creates a file to swap on.
func SwapAdd(words ...string) Step { return step("swap add", words) }

// Mount is fundus mount.
func Mount(words ...string) Step { return step("mount", words) }

// Options is fundus options.
func Options(words ...string) Step { return step("options", words) }

// PartitionAdd is fundus partition add.
func PartitionAdd(words ...string) Step { return step("partition add", words) }

// PartitionEdit is fundus partition edit.
func PartitionEdit(words ...string) Step { return step("partition edit", words) }

// PartitionList is fundus partition list.
func PartitionList(words ...string) Step { return step("partition list", words) }

// Recover is fundus recover.
func Recover(words ...string) Step { return step("recover", words) }

// Rehearse is fundus rehearse.
func Rehearse(words ...string) Step { return step("rehearse", words) }

// Rescan is fundus rescan.
func Rescan(words ...string) Step { return step("rescan", words) }

// Resize is fundus resize.
func Resize(words ...string) Step { return step("resize", words) }

// Settings is fundus settings.
func Settings(words ...string) Step { return step("settings", words) }

// Survey is fundus survey.
func Survey(words ...string) Step { return step("survey", words) }

// SwapList is fundus swap list.
func SwapList(words ...string) Step { return step("swap list", words) }

// SwapOff is fundus swap off.
func SwapOff(words ...string) Step { return step("swap off", words) }

// SwapOn is fundus swap on.
func SwapOn(words ...string) Step { return step("swap on", words) }

// TableConvert is fundus table convert.
func TableConvert(words ...string) Step { return step("table convert", words) }

// TableEdit is fundus table edit.
func TableEdit(words ...string) Step { return step("table edit", words) }

// TableNew is fundus table new.
func TableNew(words ...string) Step { return step("table new", words) }

// TableRepair is fundus table repair.
func TableRepair(words ...string) Step { return step("table repair", words) }

// Types is fundus types.
func Types(words ...string) Step { return step("types", words) }

// Undo is fundus undo.
func Undo(words ...string) Step { return step("undo", words) }

// UnitAdd is fundus unit add.
func UnitAdd(words ...string) Step { return step("unit add", words) }

// UnitList is fundus unit list.
func UnitList(words ...string) Step { return step("unit list", words) }

// Unmount is fundus unmount.
func Unmount(words ...string) Step { return step("unmount", words) }

// Verify is fundus verify.
func Verify(words ...string) Step { return step("verify", words) }
