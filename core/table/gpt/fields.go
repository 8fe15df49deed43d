package gpt

import (
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/table"
)

// Fields are those of both headers, and of each entry that is used in the first
// array that can be read.
func Fields(dev block.Device) ([]field.Structure, error) {
	s, err := Read(dev)
	if err != nil {
		return nil, err
	}
	sector := dev.Geometry().Logical
	var out []field.Structure
	for _, copyOf := range []struct {
		name string
		lba  uint64
	}{{"GPT header", headerLBA}, {"GPT header, backup", s.Sectors - 1}} {
		header, err := field.ReadStructure(dev, copyOf.name, int64(copyOf.lba)*sector, binary.LittleEndian, headerSpecs())
		if err != nil {
			return nil, err
		}
		out = append(out, header)
	}
	t := s.Good()
	if t == nil {
		return out, nil
	}
	for i, e := range t.Entries {
		if !e.Used() {
			continue
		}
		at := int64(t.ArrayLBA)*sector + int64(i)*int64(t.EntrySize)
		entry, err := field.ReadStructure(dev, fmt.Sprintf("GPT entry %d", i+1), at, binary.LittleEndian, entrySpecs())
		if err != nil {
			return nil, err
		}
		out = append(out, entry)
	}
	return out, nil
}

func headerSpecs() []field.Spec {
	return []field.Spec{
		field.Text(8, "signature"),
		field.Hex(4, "revision"),
		field.Number(4, "size of the header, in bytes"),
		field.Hex(4, "checksum of the header"),
		field.Number(4, "reserved"),
		field.Number(8, "sector of this header"),
		field.Number(8, "sector of the other header"),
		field.Number(8, "first usable sector"),
		field.Number(8, "last usable sector"),
		field.GUID(16, "disk GUID"),
		field.Number(8, "first sector of the entries"),
		field.Number(4, "entries"),
		field.Number(4, "entry, in bytes"),
		field.Hex(4, "checksum of the entries"),
	}
}

func entrySpecs() []field.Spec {
	return []field.Spec{
		field.As(16, "type", typeName),
		field.GUID(16, "unique GUID"),
		field.Number(8, "first sector"),
		field.Number(8, "last sector"),
		field.Hex(8, "attributes"),
		field.Wide(72, "name"),
	}
}

// typeName is the GUID with its short name, if it has one.
func typeName(b []byte, _ binary.ByteOrder) string {
	id := guid(b).String()
	if t, ok := table.FindType(table.GPT, id); ok {
		return id + " " + t.Name
	}
	return id
}
