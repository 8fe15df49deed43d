package field_test

import (
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
)

// One description of a structure reads it, writes it and shows it.
func Example() {
	type header struct {
		Magic [4]byte `disk:"signature" form:"text"`
		Beds  uint16  `disk:"seed beds"`
		Flags uint16  `disk:"flags"`
	}
	disk := block.NewMemory(4096, block.DefaultGeometry)
	h := header{[4]byte{'S', 'E', 'E', 'D'}, 12, 3}
	if err := block.WriteBytes(disk, field.Encode(binary.LittleEndian, &h), 512); err != nil {
		fmt.Println(err)
	}
	s, err := field.ReadRecord(disk, "header", 512, binary.LittleEndian, h, map[string]field.Form{"Flags": field.BitsForm("sown", "watered")})
	for _, f := range s.Fields {
		fmt.Printf("%d %s: %s\n", f.At, f.Name, f.Meaning)
	}
	fmt.Println(field.At(h, "Flags"), err)
	// Output:
	// 512 signature: "SEED"
	// 516 seed beds: 12
	// 518 flags: 0x3: sown, watered
	// 6 <nil>
}
