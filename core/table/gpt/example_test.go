package gpt_test

import (
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/gpt"
)

// A table is made, a partition placed in it, and both are read back.
func Example() {
	dev := block.NewMemory(1<<30, block.DefaultGeometry)
	t, err := gpt.New(1<<30, 512, quantity.MiB, uuid.MustParse("5eed0000-0000-4000-8000-00000000fe11"))
	if err != nil {
		fmt.Println(err)
		return
	}
	span, _ := t.Model(512).Place(96*quantity.MiB, quantity.MiB)
	word, _ := table.ParseType(table.GPT, "linux")
	linux := uuid.MustParse(word)
	e := gpt.Entry{Type: linux, Unique: uuid.MustParse("5eed0000-0000-4000-8000-000000005ca0"), First: span.Start, Last: span.End() - 1}
	_ = e.SetName("scans")
	_ = t.Add(1, e)
	order, err := gpt.Write(dev, nil, t)
	fmt.Println(order, err)
	state, _ := gpt.Read(dev)
	for _, p := range state.Believed().Model(512).Parts {
		fmt.Println(p.Number, p.Span, p.Name, p.UUID)
	}
	// Output:
	// fresh <nil>
	// 1 2048-198655 scans 5eed0000-0000-4000-8000-000000005ca0
}
