package cli

import (
	"context"
	"errors"
	iofs "io/fs"
	"slices"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/block/file"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/fs/ext"
	"fundus/core/fs/fat"
	"fundus/core/fs/xfs"
	"fundus/core/kind"
	"fundus/core/propose"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/stack"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/mbr"
	"fundus/core/table/place"
	"fundus/core/table/saved"
	"fundus/core/table/schemes"
	"fundus/core/target"
	"fundus/core/text"
	"fundus/core/text/fstab"
	"fundus/core/units"
	"fundus/core/way"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/look"
	"fundus/internal/machine"
	"fundus/internal/machine/bench"
	"fundus/internal/machine/live"
	"fundus/internal/oscall"
	"fundus/internal/problem"
	"fundus/internal/stage"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/mount"
	"fundus/internal/task/several"
	"fundus/internal/task/space"
)

// identified has the errors that stand for an identifier, in the order in which they are asked for:
// what a refusal comes of stands before what it is a case of.
func identified() []struct {
	id   refused.ID
	errs []error
} {
	return []struct {
		id   refused.ID
		errs []error
	}{
		{refused.DraftStale, []error{draft.ErrChanged}},
		{refused.Locked, []error{task.ErrChanging, deed.ErrRunning, file.ErrLocked, oscall.ErrLocked}},
		{refused.NoSuchDraft, []error{deed.ErrNoDraft}},
		{refused.NoSuchDeed, []error{deed.ErrNone}},
		{refused.Ambiguous, []error{deed.ErrAmbiguous, target.ErrTwoFit, propose.ErrCarried, deed.ErrIdentity}},
		{refused.WrittenSince, []error{deed.ErrSince, deed.ErrForeign, deed.ErrEdited, deed.ErrOther, deed.ErrNewer, deed.ErrLeads}},
		{refused.NoUndo, []error{deed.ErrUndone, deed.ErrNotDone, deed.ErrNoUndo, deed.ErrNotOver, deed.ErrForward}},
		{refused.StatePlace, []error{deed.ErrOld, deed.ErrSpace, deed.ErrPlace, deed.ErrLimit, deed.ErrTorn, deed.ErrVersion}},
		{refused.TableDamaged, []error{schemes.ErrDamaged, gpt.ErrInvalid, gpt.ErrCut, mbr.ErrChain, mbr.ErrUnusual}},
		{refused.NoTable, []error{target.ErrNoTable, schemes.ErrNone}},
		{
			refused.NoSuchDevice,
			[]error{target.ErrNoTarget, target.ErrNotDisk, target.ErrNotPart, table.ErrNoEntry, bench.ErrNoDisk, file.ErrKind},
		},
		{
			refused.Exists,
			[]error{
				boot.ErrHasLine, boot.ErrHasUnit, table.ErrTaken, disk.ErrTakenID, bench.ErrTaken, iofs.ErrExist,
				disk.ErrContent, content.ErrOtherHas, bench.ErrNotEmpty,
			},
		},
		{
			refused.NoSuchThing,
			[]error{
				boot.ErrNoLine, boot.ErrNoUnit, fstab.ErrNoEntry, look.ErrNoEntry, look.ErrNoLine, content.ErrNotThere,
				propose.ErrNoName, content.ErrNoID, several.ErrMade, bench.ErrNone, iofs.ErrNotExist,
			},
		},
		{
			refused.NoRoom,
			[]error{table.ErrNoRoom, table.ErrNoSlot, place.ErrGap, fat.ErrFull, oscall.ErrRoom, extent.ErrOverlap, extent.ErrBeyond},
		},
		{refused.TooSmall, []error{fs.ErrTooSmall, gpt.ErrTooSmall, space.ErrNeeded}},
		{refused.TooLarge, []error{fs.ErrTooLarge}},
		{refused.KindUnknown, []error{kind.ErrUnknown}},
		{
			refused.KindCannot,
			[]error{
				kind.ErrCannot, fs.ErrUnsupported, field.ErrUnsupported, content.ErrExtended, content.ErrShared, fs.ErrFixed,
				oscall.ErrHoles, oscall.ErrShared, oscall.ErrSignature, xfs.ErrGrow, ext.ErrGrow, stage.ErrOpaque,
				units.ErrConvert,
			},
		},
		{
			refused.SettingWrong,
			[]error{
				fs.ErrSetting, fs.ErrNoSetting, fs.ErrLabel, fs.ErrBlockSize, table.ErrPlace, table.ErrName, table.ErrValue,
				extent.ErrEmpty, fs.ErrID, table.ErrType, stack.ErrOwnWord, quantity.ErrSyntax, quantity.ErrUnit,
				quantity.ErrNoUnit, quantity.ErrRange, look.ErrBytes, quantity.ErrNegative, file.ErrSize, deed.ErrRoot,
				errConfiguration, bench.ErrConfig,
			},
		},
		{
			refused.TextFile,
			[]error{
				look.ErrNoFstab, fstab.ErrUnsaid, fstab.ErrComment, fstab.ErrTwoPlace, boot.ErrNothingKept, saved.ErrDocument,
				text.ErrUnsayable, machine.ErrNoText, machine.ErrNowhere, oscall.ErrLinked,
			},
		},
		{refused.Unreadable, []error{target.ErrUnread, field.ErrChecksum, field.ErrMagic, field.ErrRange, field.ErrShort, block.ErrRange}},
		{refused.Fenced, []error{deed.ErrFenced}},
		{refused.NothingThere, []error{look.ErrNoSettings}},
		{refused.Hopeless, []error{propose.ErrRemovableSwap}},
		{refused.NoDirectory, []error{mount.ErrSwapFile}},
		{refused.Silent, []error{live.ErrOffline}},
		{refused.ReadOnly, []error{block.ErrReadOnly}},
		{refused.KernelRefused, []error{deed.ErrReadBack, live.ErrSettle, block.ErrPowerLost, block.ErrInjected}},
		{refused.NoPermission, []error{iofs.ErrPermission}},
		{refused.Interrupted, []error{context.Canceled, errStopped, errNoAnswer}},
	}
}

// ofRules has the identifier of each rule.
func ofRules() map[machine.Rule]refused.ID {
	return map[machine.Rule]refused.ID{
		machine.RuleNoDevice: refused.NoSuchDevice, machine.RuleNoContent: refused.NothingThere,
		machine.RuleWrongKind: refused.KindCannot, machine.RuleDamaged: refused.Unreadable,
		machine.RuleFeature: refused.KindCannot, machine.RuleTooLarge: refused.TooLarge,
		machine.RuleFenced: refused.Fenced, machine.RuleDirectory: refused.NoDirectory,
		machine.RuleReadOnly: refused.ReadOnly, machine.RuleMounted: refused.InUse,
		machine.RuleRoot: refused.SystemRoot, machine.RuleNotMounted: refused.NotInUse,
		machine.RuleBusy: refused.InUse, machine.RuleTableInUse: refused.InUse,
		machine.RulePartitionUse: refused.InUse, machine.RuleSwapTwice: refused.InUse,
		machine.RuleNotSwap: refused.NothingThere, machine.RuleOption: refused.OptionWrong,
		machine.RuleAsleep: refused.Sleeping, machine.RuleFile: refused.TextFile,
		machine.RuleMemory: refused.NoRoom, machine.RuleExchange: refused.KindCannot,
		machine.RuleNoGrowth: refused.KindCannot, machine.RuleNoSystemd: refused.KernelRefused,
	}
}

// problem is the error as data.
func (e *Env) problemOf(code int, err error) problem.Problem {
	r := problem.Problem{Code: code, ID: idOf(code, err), Text: plain(err), State: problem.Untouched, Next: way.Next(err), Remarks: e.notes, Looks: e.looks}
	if r.Next.Empty() {
		r.Next = e.renamed(err)
	}
	if code == exitMidway {
		r.State = problem.Stopped
	}
	if refusal, is := errors.AsType[*machine.Refusal](err); is {
		r.Rule, r.Thing = string(refusal.Rule), refusal.Thing
	}
	if hopeless, is := errors.AsType[*draft.HopelessError](err); is {
		r.Rule, r.Thing = string(hopeless.Finding.ID), hopeless.Finding.Thing
	}
	if needs, is := errors.AsType[*draft.NeedError](err); is {
		r.Needs = needs.Needs
	}
	if stale, is := errors.AsType[*staleError](err); is {
		r.State, r.Now, r.Needs = problem.Drafted, stale.now, stale.needs
	}
	if _, is := errors.AsType[*partlyError](err); is {
		r.State = problem.Partly
	}
	e.about(&r)
	return r
}

// idOf is the identifier of an error.
func idOf(code int, err error) refused.ID {
	_, needs := errors.AsType[*draft.NeedError](err)
	_, wrong := errors.AsType[*draft.WrongError](err)
	_, hopeless := errors.AsType[*draft.HopelessError](err)
	_, back := errors.AsType[*deed.TakenBackError](err)
	_, fit := errors.AsType[*stack.FitError](err)
	_, silent := errors.AsType[*machine.SilentError](err)
	switch {
	case code == exitWords:
		return refused.BadWords
	case code == exitMidway:
		return refused.Midway
	case needs:
		return refused.Needed
	case wrong:
		return refused.NotLost
	case hopeless:
		return refused.Hopeless
	case silent:
		return refused.Silent
	case fit:
		return refused.KindCannot
	}
	if refusal, is := errors.AsType[*machine.Refusal](err); is {
		return ofRules()[refusal.Rule]
	}
	if id := refused.Of(err); id != "" {
		return id
	}
	for _, row := range identified() {
		if slices.ContainsFunc(row.errs, func(known error) bool { return errors.Is(err, known) }) {
			return row.id
		}
	}
	if back {
		return refused.TakenBack
	}
	return refused.Other
}

// about says which device the error is about: the one that it names, or the only one of the words
// that were typed.
func (e *Env) about(r *problem.Problem) {
	if e.seen == nil {
		return
	}
	n, known := e.seen.Node(r.Thing)
	if !known && r.Thing == "" {
		for _, w := range e.words {
			o, err := target.Resolve(e.seen, w)
			if err != nil || known && o.Name == n.Name {
				continue
			}
			if known { // two: nobody knows which
				return
			}
			n, known = o, true
		}
	}
	if known {
		name := target.NameOf(e.seen, n)
		r.Device, r.Target = n.Name, &name
	}
}
