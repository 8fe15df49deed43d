package mbr

import (
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
)

// Fields are those of sector 0.
func Fields(dev block.Device) ([]field.Structure, error) {
	specs := []field.Spec{field.Bytes(diskSignature, "boot code"), field.Hex(4, "disk signature"), field.Hex(2, "copy protection")}
	for i := range 4 {
		name := func(what string) string { return fmt.Sprintf("record %d: %s", i+1, what) }
		specs = append(specs, field.Words(1, name("boot flag"), map[uint64]string{0x80: "to be booted"}),
			field.As(3, name("first, as cylinder, head and sector"), chs), field.Hex(1, name("type")),
			field.As(3, name("last, as cylinder, head and sector"), chs),
			field.Number(4, name("first sector")), field.Number(4, name("sectors")))
	}
	specs = append(specs, field.Hex(2, "signature"))
	s, err := field.ReadStructure(dev, "master boot record", 0, binary.LittleEndian, specs)
	return []field.Structure{s}, err
}

// chs is head, then sector with the high bits of the cylinder, then cylinder.
func chs(b []byte, _ binary.ByteOrder) string {
	return fmt.Sprintf("%d, %d, %d", int(b[2])|int(b[1]&0xC0)<<2, b[0], b[1]&0x3F)
}
