package swap

import (
	"encoding/binary"

	"fundus/core/block"
	"fundus/core/block/field"
)

// Fields are those of the header, and the signature that ends the first page.
func Fields(dev block.Device) ([]field.Structure, error) {
	c, err := Probe(dev)
	if err != nil || c == nil {
		return nil, err
	}
	b, err := block.ReadSized(dev, versionAt, 4, 4)
	if err != nil {
		return nil, err
	}
	order := binary.ByteOrder(binary.LittleEndian)
	if order.Uint32(b) != 1 {
		order = binary.BigEndian
	}
	header, err := field.ReadStructure(dev, "swap header", versionAt, order, []field.Spec{
		field.Number(4, "version"),
		field.Number(4, "last page"),
		field.Number(4, "bad pages"),
		field.ID(16, "UUID"),
		field.Text(16, "label"),
	})
	if err != nil {
		return nil, err
	}
	end, err := field.ReadStructure(dev, "end of the first page", int64(c.Signatures[0].Start), order,
		[]field.Spec{field.Text(len(magic), "signature")})
	return []field.Structure{header, end}, err
}
