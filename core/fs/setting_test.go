package fs

import (
	"errors"
	"testing"

	"github.com/google/uuid"
)

var (
	few   = Setting{Key: "block", Form: Size, Only: []int64{1024, 4096, 3 << 20}}
	share = Setting{Key: "reserved", Form: Share, Range: [2]int64{0, 500}}
	wide  = Setting{Key: "log", Form: Size, Range: [2]int64{1000, 1 << 50}}
)

// TestValuesReadBack: what Word writes Parse reads, at the ends and between them.
func TestValuesReadBack(t *testing.T) {
	for _, c := range []struct {
		s    Setting
		list []int64
	}{{few, few.Only}, {share, []int64{0, 1, 5, 10, 49, 50, 499, 500}}, {wide, []int64{1000, 1023, 1024, 1536, 1 << 20, 1<<50 - 1, 1 << 50}}} {
		for _, n := range c.list {
			if got, err := c.s.Parse(c.s.Word(n)); err != nil || got != n {
				t.Errorf("%s %d: %q is read as %d: %v", c.s.Key, n, c.s.Word(n), got, err)
			}
		}
	}
	every := Setting{Key: "every", Form: Time, Range: [2]int64{1, 1 << 30}, Nought: "never"}
	for word, want := range map[string]int64{"30days": 2592000, "1month": 2592000, "1d": 86400, "2weeks": 1209600, "90min": 5400, "0": 0, "never": 0, "5": -1, "day": -1, "1m": -1, "0s": -1} {
		if got, err := every.Parse(word); (err != nil) != (want < 0) || err == nil && got != want {
			t.Errorf("%q: %d, %v", word, got, err)
		}
	}
	if got, err := share.Parse("0"); err != nil || got != 0 {
		t.Errorf("nought of whatever: %d, %v", got, err)
	}
	for word, want := range map[string]int64{"4096": 4096, "4KiB": 4096, "4k": 4096, "4096B": 4096, "0.003GiB": -1, "4KB": -1} {
		if got, err := few.Parse(word); (err != nil) != (want < 0) || err == nil && got != want {
			t.Errorf("%q: %d, %v", word, got, err)
		}
	}
}

// TestWordsThatMeanNothing are refused, and never rounded to something.
func TestWordsThatMeanNothing(t *testing.T) {
	for _, c := range []struct {
		s    Setting
		word string
	}{
		{share, "5"}, {share, "5.55%"}, {share, "50.1%"}, {share, "-1%"}, {share, "%"}, {share, ".5%"}, {share, "5.%"}, {share, "+5%"}, {share, "5 %"}, {share, "1e1%"}, {share, "4294967297%"}, {share, "5%%"},
		{few, "512"}, {few, "-4096"}, {few, ""}, {few, "max"}, {few, "8sectors"}, {few, "18446744073709555712"},
		{wide, "1024"}, {wide, "999B"}, {wide, "2sectors"}, {wide, "50%"}, {wide, "max"}, {wide, "1025TiB"}, {wide, "nothing"},
	} {
		if n, err := c.s.Parse(c.word); !errors.Is(err, ErrSetting) {
			t.Errorf("%s=%q is taken for %d (%v)", c.s.Key, c.word, n, err)
		}
	}
}

// TestOrigins: of each setting the value that is in force, and who has said it.
func TestOrigins(t *testing.T) {
	type options struct{ block, reserved, log int64 }
	list := []Option[options]{
		{few, func(o *options) int64 { return o.block }, func(o *options, n int64) { o.block = n }, nil},
		{share, func(o *options) int64 { return o.reserved }, func(o *options, n int64) { o.reserved = n }, nil},
		{wide, func(o *options) int64 { return o.log }, func(o *options, n int64) { o.log = n }, nil},
	}
	o := options{block: 4096, reserved: 50, log: 1000}
	wishes := Wishes{"reserved": {"0.5%", ByRequest}, "log": {"1MiB", ByConfiguration}}
	if err := Take(list, &o, wishes); err != nil || o != (options{4096, 5, 1 << 20}) {
		t.Fatalf("%+v, %v", o, err)
	}
	want := []Value{{"block", "4KiB", ByDevice}, {"reserved", "0.5%", ByRequest}, {"log", "1MiB", ByConfiguration}}
	for i, got := range Decided(list, &o, wishes, "block", "log") {
		if got != want[i] {
			t.Errorf("%+v, want %+v", got, want[i])
		}
	}
	if err := Take(list, &o, Wishes{"blocks": {"4KiB", ByRequest}}); !errors.Is(err, ErrNoSetting) {
		t.Error(err)
	}
}

// TestIdentifiers: each form reads back what it writes, and takes none of the other.
func TestIdentifiers(t *testing.T) {
	random := uuid.MustParse("5eed0000-0000-4000-8000-00000000fe11")
	for form, want := range map[IDForm]string{Wide: random.String(), Serial: "5EED-0000"} {
		id := form.Fresh(random)
		if id.String() != want {
			t.Errorf("%s: %s", form, id)
		}
		if again, err := form.Parse(id.String()); err != nil || again != id {
			t.Errorf("%s: %v, %v", form, again, err)
		}
	}
	if id, err := Serial.Parse("00ab-cd0f"); err != nil || id.String() != "00AB-CD0F" {
		t.Error(id, err)
	}
	for _, c := range []struct {
		form IDForm
		word string
	}{{Wide, "5EED-0000"}, {Wide, ""}, {Wide, "{" + random.String() + "}"}, {Wide, "00000000-0000-0000-0000-000000000000"}, {Serial, random.String()}, {Serial, "5EED0000"}, {Serial, "5EED-000"}, {Serial, "5EE-D0000"}, {Serial, "+EED-0000"}, {Serial, "5EED-00G0"}, {Serial, "5EED--000"}} {
		if id, err := c.form.Parse(c.word); !errors.Is(err, ErrID) {
			t.Errorf("%s %q is taken for %s (%v)", c.form, c.word, id, err)
		}
	}
	if (ID{}).String() != "" {
		t.Error("no identifier is written as something")
	}
}

// TestAimed: a reader leaves out what it does not know, and refuses what somebody asked for
// all the same, or what cannot be left out.
func TestAimed(t *testing.T) {
	traits := []Trait{{Name: "groups", Since: Version{2, 6}, Boot: true}, {Name: "late times", Key: "late-times", Since: Version{5, 10}, Boot: true}, {Name: "wide counts", Key: "wide-counts", Since: Version{5, 19}, Off: true, Usual: Version{6, 6}}}
	for _, c := range []struct {
		aim    string
		wishes Wishes
		want   string // the values of late-times and wide-counts, or an error
	}{
		{"any", Wishes{}, "/"}, {"6.1", Wishes{}, "/"}, {"5.10", Wishes{}, "/"}, {"5.9", Wishes{}, "no/"}, {"5.4.17", Wishes{}, "no/"}, {"2.5", Wishes{}, "error"}, {"boot", Wishes{}, "/"},
		{"5.4", Wishes{"late-times": {"yes", ByRequest}}, "error"}, {"5.4", Wishes{"late-times": {"yes", ByConfiguration}}, "no/"}, {"5.4", Wishes{"late-times": {"no", ByRequest}}, "no/"},
		{"boot", Wishes{"wide-counts": {"yes", ByRequest}}, "error"}, {"boot", Wishes{"wide-counts": {"yes", ByConfiguration}}, "/no"}, {"6.5", Wishes{"wide-counts": {"yes", ByRequest}}, "/yes"}, {"6.5", Wishes{}, "/"}, {"6.6", Wishes{}, "/yes"}, {"6.6", Wishes{"wide-counts": {"no", ByRequest}}, "/no"},
	} {
		c.wishes[ForKey] = Wish{c.aim, ByRequest}
		before := len(c.wishes)
		got, err := Aimed(traits, c.wishes)
		said := got["late-times"].Word + "/" + got["wide-counts"].Word
		if err != nil {
			said = "error"
		}
		if said != c.want || len(c.wishes) != before || (err != nil) != errors.Is(err, ErrSetting) {
			t.Errorf("%s with %v: %s, want %s (%v)", c.aim, c.wishes, said, c.want, err)
		}
	}
	s := ForSetting(ForBoot)
	for word, want := range map[string]string{"5.4": "5.4", "5.4.17": "5.4", "boot": "boot", "any": "any", "efi": "", "5": "", "1.2": "", "5.400": "", "5.x": "", "": ""} {
		n, err := s.Parse(word)
		if (err == nil) != (want != "") || err == nil && s.Word(n) != want {
			t.Errorf("%s=%q: %q, %v", s.Key, word, s.Word(n), err)
		}
	}
}
