package quantity

import (
	"errors"
	"math"
	"testing"
)

func TestParseSizes(t *testing.T) {
	const whole, sector = 100 * GiB, 4096
	cases := []struct {
		text string
		want Bytes
		err  error
	}{
		{"512MiB", 512 * MiB, nil}, {"8GiB", 8 * GiB, nil}, {"1.5TiB", 1536 * GiB, nil},
		{"500MB", 500_000_000, nil}, {"1TB", 1_000_000_000_000, nil}, {"8G", 8 * GiB, nil}, {"3kB", 3000, nil},
		{"4096sectors", 4096 * 4096, nil}, {"1 sector", 4096, nil}, {"50%", 50 * GiB, nil}, {"max", whole, nil},
		{"0.1KiB", 102, nil}, {"512B", 512, nil}, {"7.999999EiB", 9223370883933271201, nil},
		{"8EiB", 0, ErrRange}, {"101%", 0, ErrRange}, {"99999999999999999999sectors", 0, ErrRange},
		{"12", 0, ErrNoUnit}, {"12Q", 0, ErrUnit}, {"12Gi", 0, ErrUnit}, {"-8GiB", 0, ErrNegative}, {"+8GiB", 0, ErrNegative},
		{"", 0, ErrSyntax}, {"GiB", 0, ErrSyntax}, {"1.2.3GiB", 0, ErrSyntax}, {".5GiB", 0, ErrSyntax}, {"1.5sectors", 0, ErrSyntax},
	}
	for _, c := range cases {
		size, err := Parse(c.text)
		var got Bytes
		if err == nil {
			got, err = size.Resolve(sector, whole)
		}
		if got != c.want || !errors.Is(err, c.err) {
			t.Errorf("Parse(%q) = %d, %v; want %d, %v", c.text, got, err, c.want, c.err)
		}
	}
	if size, _ := Parse("8G"); !size.Bare {
		t.Error("Parse(8G).Bare = false; a bare letter must be marked")
	}
}

func TestParseChange(t *testing.T) {
	grow, amount, err := ParseChange("-10%")
	if grow || err != nil || amount.Form != Percent {
		t.Errorf("ParseChange(-10%%) = %v, %v, %v", grow, amount, err)
	}
	for _, bad := range []string{"", "10%", "+max", "--1GiB"} {
		if _, _, err := ParseChange(bad); err == nil {
			t.Errorf("ParseChange(%q) succeeded", bad)
		}
	}
}

func TestFormat(t *testing.T) {
	cases := []struct {
		b        Bytes
		iec, dec string
	}{
		{0, "0 B", "0 B"}, {1023, "1023 B", "1.0 kB"}, {1024, "1.0 KiB", "1.0 kB"}, {MiB - 1, "1.0 MiB", "1.0 MB"},
		{64 * GiB, "64.0 GiB", "68.7 GB"}, {100_000_000_000, "93.1 GiB", "100.0 GB"},
		{math.MaxInt64, "8.0 EiB", "9.2 EB"}, {-GiB, "-1.0 GiB", "-1.1 GB"}, {999_960, "976.5 KiB", "1.0 MB"},
	}
	for _, c := range cases {
		if got := c.b.String(); got != c.iec {
			t.Errorf("%d.String() = %q, want %q", c.b, got, c.iec)
		}
		if got := c.b.SI(); got != c.dec {
			t.Errorf("%d.SI() = %q, want %q", c.b, got, c.dec)
		}
	}
}

func TestStyles(t *testing.T) {
	for style, want := range map[Style]string{IEC: "1.5 GiB", SI: "1.6 GB", Sectors: "393216 sectors", Exact: "1610612736"} {
		if got := style.Format(3*GiB/2, 4096); got != want {
			t.Errorf("%s: %q, want %q", style, got, want)
		}
		if again, err := ParseStyle(string(style)); again != style || err != nil {
			t.Errorf("ParseStyle(%s) = %s, %v", style, again, err)
		}
	}
}

func TestConversionsReportOverflow(t *testing.T) {
	if _, ok := (LBA{1 << 54, 512}).Bytes(); ok {
		t.Error("LBA 2^54 of 512 bytes fits into int64")
	}
	if b, ok := (LBA{1<<54 - 1, 512}).Bytes(); !ok || b != math.MaxInt64-511 {
		t.Errorf("LBA 2^54-1 of 512 bytes = %d, %v", b, ok)
	}
	if _, ok := Bytes(math.MaxInt64).Up(MiB); ok {
		t.Error("Up past the largest value succeeded")
	}
}

// FuzzParse: what is accepted keeps its meaning when it is stored and read
// again, and is never negative.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"1.5TiB", "8G", "50%", "max", "4096sectors", "-1GiB", "9e9GiB", "0x10MiB"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		size, err := Parse(text)
		if err != nil {
			return
		}
		var again Size
		stored, _ := size.MarshalText()
		if err := again.UnmarshalText(stored); err != nil {
			t.Fatalf("%q was accepted, but not again: %v", text, err)
		}
		a, errA := size.Resolve(512, TiB)
		b, errB := again.Resolve(512, TiB)
		if a != b || (errA == nil) != (errB == nil) || a < 0 {
			t.Fatalf("%q resolves to %d, then %d", text, a, b)
		}
	})
}
