package verify

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/mounts"
	"fundus/core/text"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// reading says where a line does not mean to systemd what it looks like.
func (k *look) reading(thing string, l fstab.Line, u fstab.Unit) (out []finding.Finding) {
	add := func(f finding.Finding) { out = append(out, f) }
	switch u.None {
	case fstab.Dies:
		below := 0
		for _, o := range k.units {
			if o.None == fstab.Dead {
				below++
			}
		}
		add(FstabDies.New(thing,
			"a timeout without a value: systemd's reader ends here, and %d lines below are not read",
			below).WithRemedy("give it a value, such as 90s, or take it out: fundus fstab edit %d --drop=OPTION",
			u.Line))
	case fstab.NoName, fstab.NoNeed:
		add(FstabRefused.New(thing, "%s", u.None).WithRemedy("write the path without .., and a name after the equals sign"))
	case fstab.NotPath:
		what := fmt.Sprintf("the mount point is %q: without a / it is none", u.Entry.Dir)
		if u.Entry.Dir == "" {
			what = fmt.Sprintf("%q stands alone, and has no mount point", u.Entry.Spec)
		}
		add(FstabIgnored.New(thing, "%s", what).WithRemedy("write the mount point from the root, and a blank in a name as \\040"))
	}
	out = append(out, written(thing, k.fstab, l, u)...)
	e := u.Entry
	if tag, value, is := strings.Cut(e.Spec, "="); is && !strings.HasPrefix(e.Spec, "/") &&
		slices.Contains(text.Tags(), strings.ToUpper(tag)) &&
		tag != strings.ToUpper(tag) {
		add(FstabTagCase.New(thing, "%s= is not read as an identifier", tag).WithRemedy("write %s=%s", strings.ToUpper(tag), value))
	}
	if to, led := k.v.Leads[fstab.FromRoot(e.Dir)]; led && u.None == "" {
		add(FstabLink.New(thing, "%s leads to %s", e.Dir, to).WithRemedy("let the line say %s", to))
	}
	out = append(out, k.parent(thing, u)...)
	return append(out, times(thing, u)...)
}

// foreign matches an escape that somebody meant and nothing reads.
func foreign() *regexp.Regexp { return regexp.MustCompile(`\\(x[0-9a-fA-F]{2}|[0-7]{3})`) }

// written is about the bytes of the line.
func written(thing string, table *fstab.File, l fstab.Line, u fstab.Unit) (out []finding.Finding) {
	add := func(f finding.Finding) { out = append(out, f) }
	if rest := l.Unread(); rest != "" {
		words := fmt.Sprintf("%d bytes at the end of the line are not read", len(rest))
		if next, ok := table.Line(l.Number + 1); ok && next.Lost {
			words += fmt.Sprintf(", and line %d not at all", next.Number)
		}
		add(FstabLost.New(thing, "%s", words).WithRemedy("rewrite the line, without NUL bytes and below 4096 bytes"))
	}
	if strings.Contains(strings.TrimSuffix(l.Raw, "\n"), "\r") {
		f := FstabReturn.New(thing, "the line holds a carriage return").WithRemedy("write the file with line ends of this system")
		if last := l.Fields[len(l.Fields)-1]; len(l.Fields) >= 6 && strings.HasSuffix(last.Text, "\r") {
			f.Severity = finding.Note // behind a number, where it does no harm
		}
		add(f)
	}
	for _, s := range []string{u.Entry.Spec, u.Entry.Dir} {
		if esc := foreign().FindString(s); esc != "" &&
			!(strings.HasPrefix(s, "/dev/disk/by-") && strings.HasPrefix(esc, `\x`)) { // udev writes its links so
			add(FstabEscape.New(thing, "%s stays %s in %q", esc, esc, s).WithRemedy("write the character itself"))
		}
	}
	if len(l.Fields) > fstab.OptionsField+1 && strings.HasSuffix(l.Fields[fstab.OptionsField].Text, ",") {
		more := l.Fields[fstab.OptionsField+1].Text
		add(FstabFields.New(thing, "%q is not among the options: a blank stands before it", more).WithMend(way.FstabEdit(way.N(u.Line), "--add="+strings.Trim(more, ","))))
		return out
	}
	for i := fstab.DumpField; i <= fstab.PassField && i < len(l.Fields); i++ {
		word := l.Fields[i].Text
		if word != "" && !strings.HasPrefix(word, "#") && strings.Trim(strings.TrimSpace(word), "0123456789") != "" {
			add(FstabNumber.New(thing, "field %d is %q, and no number", i+1, word).WithRemedy("write 0, or 2 for a check at boot"))
		}
		if strings.HasPrefix(word, "#") {
			break
		}
	}
	return out
}

// parent is about a required line below one that the boot may leave out.
func (k *look) parent(thing string, u fstab.Unit) (out []finding.Finding) {
	if u.None != "" || u.Where == "" || u.Tie != fstab.Required || u.Automount {
		return nil
	}
	for _, p := range k.units {
		if p.None == "" && p.Where != "" && p.Tie == fstab.Wanted && !p.Automount &&
			strings.HasPrefix(u.Where, strings.TrimSuffix(p.Where, "/")+"/") {
			out = append(out, FstabParent.New(thing, "%s is required and is below %s (line %d), which has nofail",
				u.Where, p.Where, p.Line).WithMend(way.FstabEdit(way.N(u.Line), "--add=nofail")))
		}
	}
	return out
}

// times are about timeouts that systemd does not go by.
func times(thing string, u fstab.Unit) (out []finding.Finding) {
	for _, o := range u.Entry.Options {
		name, value, valued := strings.Cut(o, "=")
		if name != "x-systemd.device-timeout" && name != "x-systemd.mount-timeout" && name != "x-systemd.idle-timeout" || !valued {
			continue
		}
		switch {
		case !fstab.IsTime(value):
			out = append(out, FstabTime.New(thing, "%s: %q is no span of time", name, value).WithRemedy("write it as 90s or 5min"))
		case name == "x-systemd.idle-timeout" && !u.Automount, name == "x-systemd.device-timeout" && !fstab.IsNode(u.What):
			out = append(out, FstabNoEffect.New(thing, "%s has no effect on this line", name).WithMend(way.FstabEdit(way.N(u.Line), "--drop="+name)))
		}
	}
	return out
}

// options holds those of a line against what its file system takes.
func (k *look) options(thing string, u fstab.Unit, n inventory.Node) (out []finding.Finding) {
	if u.Entry.Has("remount") && !u.Entry.IsSwap() {
		f := FstabNeeds.New(thing, "remount asks for other options of what is mounted there, and at boot nothing is").WithMend(way.FstabEdit(way.N(u.Line), "--drop=remount"))
		if u.Tie != fstab.Required {
			f.Severity = finding.Warning
		}
		out = append(out, f)
	}
	if by, value := kind.AtOtherOf(u.Entry.Type, u.Entry.Options); by != nil && !u.Entry.IsSwap() && !u.Entry.On("ro", "rw") {
		out = append(out, FstabByCopy.New(thing, "%s=%s mounts by a copy of the superblock, for writing", by.Option,
			value).WithMend(way.FstabEdit(way.N(u.Line), "--add=ro")))
	}
	ask := mounts.Ask{On: n, Type: u.Entry.Type, Options: slices.Clone(u.Entry.Options), Answers: k.v.Answers, Names: k.v.Names}
	if last := len(ask.Options) - 1; last >= 0 { // systemd takes blanks off the end of a value
		ask.Options[last] = strings.TrimRight(ask.Options[last], "\r")
	}
	entries := map[mountopt.Trouble]finding.Entry{mountopt.Unknown: FstabOption, mountopt.BadValue: FstabValue,
		mountopt.Missing:   FstabNeeds,
		mountopt.Overruled: FstabOverruled, mountopt.NoEffect: FstabNoEffect, mountopt.Needless: FstabRedundant}
	for _, fault := range ask.Faults() {
		entry, known := entries[fault.Trouble]
		if !known || mountopt.Name(fault.Option) != fault.Option && strings.HasPrefix(fault.Option, "x-systemd.") {
			continue
		}
		f := entry.New(thing, "%s", fault.Says)
		if fault.Trouble == mountopt.Unknown {
			f = meant(f, fault, ask.As(), u.Line)
		} else {
			f = f.WithMend(way.FstabEdit(way.N(u.Line), "--drop="+mountopt.Name(fault.Option)))
		}
		if f.Severity == finding.Error && (u.Tie != fstab.Required || u.Entry.IsSwap()) {
			f.Severity = finding.Warning
		}
		out = append(out, f)
	}
	return out
}

// meant says which option was probably meant, or whose it is.
func meant(f finding.Finding, fault mountopt.Fault, typ string, line int) finding.Finding {
	name := mountopt.Name(fault.Option)
	if name == "fail" { // systemd reads it, and whoever mounts for it does not
		f.Text += "; systemd reads it as the opposite of nofail, and passes it on too: a line without both is required"
		return f.WithMend(way.FstabEdit(way.N(line), "--drop=nofail,fail"))
	}
	if others := kind.Elsewhere(typ, fault.Option); len(others) > 0 {
		f.Text += fmt.Sprintf("; it is one of %s", strings.Join(others, ", "))
		return f.WithMend(way.FstabEdit(way.N(line), "--drop="+name))
	}
	if fault.Instead != "" {
		f.Text += "; did you mean " + fault.Instead + "?"
		return f.WithMend(way.FstabEdit(way.N(line), "--drop="+name, "--add="+fault.Instead))
	}
	return f.WithRemedy("%s lists what it knows", way.Options(typ).Line())
}
