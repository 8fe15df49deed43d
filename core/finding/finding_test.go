package finding

import (
	"testing"
)

func TestSeverities(t *testing.T) {
	step, backup := Entry{"step", Note, "why"}, Entry{"backup", Warning, "why"}
	twice, kind := Entry{"twice", Error, "why"}, Entry{"kind", Error, "why"}
	list := []Finding{step.New("sdb1", "x"), backup.New("sdb", "x"), twice.New("sdb1", "x")}
	if Worst(list) != Error || Worst(list[:2]) != Warning || Worst(nil) != "" {
		t.Errorf("Worst: %s, %s, %s", Worst(list), Worst(list[:2]), Worst(nil))
	}
	if n := len(AtLeast(list, Warning)); n != 2 {
		t.Errorf("AtLeast(warning) keeps %d", n)
	}
	if added := Added(list[:1], list); len(added) != 2 || added[0].ID != backup.ID {
		t.Errorf("Added = %v", added)
	}
	line := func(at string) Finding { return kind.New("/etc/fstab:"+at, "the line says xfs") }
	if added := Added([]Finding{line("5")}, []Finding{line("4")}); len(added) != 0 {
		t.Errorf("a line that moved up is new: %v", added)
	}
	if added := Added([]Finding{line("5")}, []Finding{kind.New("/etc/fstab:5", "the line says ext4")}); len(added) != 1 {
		t.Errorf("another fault in the same line is not new: %v", added)
	}
	if _, err := ParseSeverity("fatal"); err == nil {
		t.Error("ParseSeverity(fatal) succeeded")
	}
}
