package saved_test

import (
	"errors"
	"reflect"
	"strings"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/saved"
	"fundus/core/table/schemes"
)

func empty(t testing.TB, scheme table.Scheme) table.Editor {
	t.Helper()
	e, err := schemes.New(block.NewMemory(1<<30, block.DefaultGeometry), schemes.Wanted{Scheme: scheme, Step: quantity.MiB, ID: uuid.UUID{1}})
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// example is a table with something of everything.
func example(t testing.TB, scheme table.Scheme) *table.Table {
	t.Helper()
	e := empty(t, scheme)
	span := func(start, count uint64) extent.Span { return extent.Span{Start: start, Count: count} }
	list := []table.Partition{
		{Number: 3, Span: span(2048, 4096), Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", UUID: uuid.NewString(), Name: "scans \u202e\x1b", Attributes: 1 << 60},
		{Number: 9, Span: span(10240, 4096), Type: "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", UUID: uuid.NewString()},
	}
	if scheme == table.MBR {
		list = []table.Partition{{Number: 2, Span: span(2048, 4096), Type: "ef", Attributes: 0x80}, {Span: span(20480, 200000), Type: "0f"}, {Span: span(100000, 4096), Type: "83"}, {Span: span(40960, 4096), Type: "82"}}
	}
	for _, p := range list {
		if err := e.Add(p); err != nil {
			t.Fatal(err)
		}
	}
	return e.Model()
}

// TestRoundTrip: what was saved is restored, entry by entry; with fresh identifiers
// everything else is.
func TestRoundTrip(t *testing.T) {
	for _, scheme := range []table.Scheme{table.GPT, table.MBR} {
		m := example(t, scheme)
		data, err := saved.Save(m, saved.Disk{Identity: "sata LS-20417", Size: 1 << 30, Sector: 512}).Encode()
		if err != nil {
			t.Fatal(err)
		}
		doc, err := saved.Decode(data)
		if err != nil {
			t.Fatal(err)
		}
		e := empty(t, scheme)
		if err := doc.Fill(e, nil); err != nil || !reflect.DeepEqual(e.Model().Parts, m.Parts) {
			t.Errorf("%s: %v: %+v, want %+v", scheme, err, e.Model().Parts, m.Parts)
		}
		e = empty(t, scheme)
		if err := doc.Fill(e, uuid.New); err != nil || len(e.Model().Parts) != len(m.Parts) || scheme == table.GPT && e.Model().Parts[0].UUID == m.Parts[0].UUID {
			t.Errorf("%s with fresh identifiers: %v: %+v", scheme, err, e.Model().Parts)
		}
	}
}

// FuzzDecode: a document is refused or makes a table whose partitions lie on its
// disk; it never fails otherwise.
func FuzzDecode(f *testing.F) {
	for _, scheme := range []table.Scheme{table.GPT, table.MBR} {
		data, _ := saved.Save(example(f, scheme), saved.Disk{Size: 1 << 30, Sector: 512}).Encode()
		f.Add(data)
		f.Add([]byte(strings.Replace(string(data), "4096", "18446744073709551615", 1)))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		doc, err := saved.Decode(data)
		if err != nil {
			if !errors.Is(err, saved.ErrDocument) {
				t.Errorf("%v", err)
			}
			return
		}
		e := empty(t, doc.Scheme)
		if doc.Fill(e, uuid.New) != nil {
			return
		}
		m := e.Model()
		for _, p := range m.Parts {
			if !p.Span.Within(1 << 21) {
				t.Errorf("partition %d lies at %v", p.Number, p.Span)
			}
		}
	})
}
