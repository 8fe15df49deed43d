package convert_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/table"
	"fundus/core/table/convert"
	"fundus/core/table/schemes"
	"fundus/test/amount"
)

// A partition of an MBR keeps its place and its number in a GPT.
func Example() {
	disk := block.NewMemory(64<<20, block.DefaultGeometry)
	old, err := schemes.New(disk, schemes.Wanted{Scheme: table.MBR, Step: 1 << 20, ID: uuid.New()})
	if err != nil {
		fmt.Println(err)
		return
	}
	if err := old.Add(table.Partition{Number: 2, Span: extent.Span{Start: 2048, Count: 4096}, Type: "83", Attributes: table.Boot(table.MBR)}); err != nil {
		fmt.Println(err)
	}
	now, err := schemes.New(disk, schemes.Wanted{Scheme: table.GPT, Step: 1 << 20, ID: uuid.New()})
	if err != nil {
		fmt.Println(err)
		return
	}
	remarks, err := convert.Into(now, old.Model(), 1<<20, func() string { return "5eed0000-0000-4000-8000-00000000fe11" })
	part := now.Model().Parts[0]
	fmt.Println(part.Number, part.Span, part.UUID, len(remarks), err)
	// Output: 2 2048-6143 5eed0000-0000-4000-8000-00000000fe11 1 <nil>
}

// TestThereAndBack: random tables, written in the other scheme and back. Whatever is
// possible leaves each partition where it was; what is not is refused with a class, and
// never half done without a word.
func TestThereAndBack(t *testing.T) {
	seed := amount.Seed()
	possible, refused := 0, 0
	for i := range amount.Of(300, 5000) {
		rng := rand.New(rand.NewPCG(seed, uint64(i)))
		disk := block.NewMemory(256<<20, block.Geometry{Logical: 512 << (3 * rng.IntN(2)), Physical: 4096})
		from := []table.Scheme{table.GPT, table.MBR}[rng.IntN(2)]
		to := map[table.Scheme]table.Scheme{table.GPT: table.MBR, table.MBR: table.GPT}[from]
		old := random(t, rng, disk, from)
		there, err := into(t, disk, to, old.Model())
		if err != nil {
			refused++
			continue
		}
		possible++
		same(t, old.Model(), there.Model())
		if back, err := into(t, disk, from, there.Model()); err == nil {
			same(t, old.Model(), back.Model())
		}
	}
	if possible < 20 || refused < 20 {
		t.Errorf("%d conversions were possible, %d refused: too few of either", possible, refused)
	}
}

// random is a table with partitions in random gaps, some of types that the other scheme
// lacks.
func random(t *testing.T, rng *rand.Rand, disk block.Device, s table.Scheme) table.Editor {
	t.Helper()
	e, err := schemes.New(disk, schemes.Wanted{Scheme: s, Step: 1 << 20, ID: uuid.New()})
	if err != nil {
		t.Fatal(err)
	}
	for range rng.IntN(8) {
		m := e.Model()
		gaps := m.Gaps()
		if len(gaps) == 0 {
			break
		}
		gap := gaps[rng.IntN(len(gaps))]
		skip := rng.Uint64N(gap.Count)
		part := table.Partition{Span: extent.Span{Start: gap.Start + skip, Count: 1 + rng.Uint64N(gap.Count-skip)}, UUID: uuid.NewString()}
		word := []string{"linux", "linux", "linux", "swap", "efi", "root", "extended", "fat32"}[rng.IntN(8)]
		if part.Type, err = table.ParseType(s, word); err == nil {
			_ = e.Add(part) // what has no place is not in the table
		}
	}
	return e
}

func into(t *testing.T, disk block.Device, s table.Scheme, m *table.Table) (table.Editor, error) {
	t.Helper()
	e, err := schemes.New(disk, schemes.Wanted{Scheme: s, Step: 1 << 20, ID: uuid.New()})
	if err != nil {
		t.Fatal(err)
	}
	remarks, err := convert.Into(e, m, 1<<20, uuid.NewString)
	for _, r := range remarks {
		if r.Text == "" {
			t.Error("a remark without words")
		}
	}
	if err != nil && !errors.Is(err, table.ErrPlace) && !errors.Is(err, table.ErrValue) && !errors.Is(err, extent.ErrOverlap) {
		t.Errorf("%s of %+v: %v has no class", s, m.Parts, err)
	}
	return e, err
}

// same holds places against each other; extended partitions come and go.
func same(t *testing.T, a, b *table.Table) {
	t.Helper()
	spans := func(m *table.Table) map[extent.Span]bool {
		out := map[extent.Span]bool{}
		for _, p := range m.Parts {
			if p.Role != table.Extended {
				out[p.Span] = true
			}
		}
		return out
	}
	was, now := spans(a), spans(b)
	for s := range was {
		if !now[s] {
			t.Errorf("%v is lost on the way from %s to %s", s, a.Scheme, b.Scheme)
		}
	}
	if len(was) != len(now) {
		t.Errorf("%d partitions became %d", len(was), len(now))
	}
}
