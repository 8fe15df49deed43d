package crypttab

import (
	"errors"
	"fmt"
	"testing"

	"fundus/core/text"
)

const table = "# vault\nvault UUID=5eed5eed-0000-4000-8000-000000020417\tnone luks,discard\nscratch /dev/sdb3 /dev/urandom swap\nseeds  PARTLABEL=seeds /key:LABEL=keys luks\nshort\n"

// TestMentions: the device of each line and of its key, and nothing else; another name
// changes just that.
func TestMentions(t *testing.T) {
	got := ""
	for _, m := range (Syntax{}).Mentions([]byte(table)) {
		got += fmt.Sprintf("%d %s %s; ", m.Line, m.By, m.Spec)
		changed, err := Syntax{}.Say([]byte(table), m, "LABEL=herbarium")
		if want := table[:m.Start] + "LABEL=herbarium" + table[m.End:]; err != nil || string(changed) != want || table[m.Start:m.End] != m.Spec {
			t.Errorf("line %d: %q, %v", m.Line, changed, err)
		}
	}
	if want := "2  UUID=5eed5eed-0000-4000-8000-000000020417; 3  /dev/sdb3; 4  PARTLABEL=seeds; 4 key LABEL=keys; "; got != want {
		t.Errorf("mentions %s\nwant     %s", got, want)
	}
	if _, err := (Syntax{}).Say([]byte(table), (Syntax{}).Mentions([]byte(table))[0], "LABEL=two words"); !errors.Is(err, text.ErrUnsayable) {
		t.Errorf("a name with a blank: %v", err)
	}
}
