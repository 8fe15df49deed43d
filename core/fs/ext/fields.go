package ext

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/quantity"
)

// Fields are those of the primary superblock, of the first group's descriptor and of the
// root directory's inode.
func Fields(dev block.Device) ([]field.Structure, error) {
	le := binary.LittleEndian
	first, err := field.ReadRecord(dev, "ext superblock", superOffset, le, super{}, superForms())
	if err != nil {
		return nil, err
	}
	out := []field.Structure{first}
	s, err := Read(dev)
	if err != nil || s.Incompat&incompatJournalDev != 0 { // then it is enough to see why; a journal has no groups
		return out, nil
	}
	var record any = descriptor{}
	if s.Incompat&incompat64Bit == 0 {
		record = descriptorFirst{}
	}
	at := int64(s.FirstData+1) * int64(s.BlockSize)
	group, err := field.ReadRecord(dev, "descriptor of group 0", at, le, record, map[string]field.Form{
		"Flags": field.BitsForm("inodes not initialised", "blocks not initialised", "inode table zeroed")})
	if err != nil {
		return out, err
	}
	out = append(out, group)
	if at > dev.Size()-s.descriptorSize() {
		return out, nil
	}
	place, err := s.placeOfInode(dev, rootInode)
	if errors.Is(err, field.ErrRange) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	record = inode{}
	if s.InodeSize < quantity.Bytes(binary.Size(inode{})) {
		record = inodeFirst{}
	}
	root, err := field.ReadRecord(dev, fmt.Sprintf("inode %d, the root directory", rootInode), int64(place), le, record, nil)
	return append(out, root), err
}

func superForms() map[string]field.Form {
	return map[string]field.Form{
		"LogBlock":   field.ShiftedForm(1024),
		"LogCluster": field.ShiftedForm(1024),
		"State":      field.BitsForm("clean", "errors", "orphans being recovered"),
		"OnErrors":   field.WordsForm(map[uint64]string{1: "continue", 2: "read only", 3: "panic"}),
		"MadeFor":    field.WordsForm(map[uint64]string{0: "Linux", 1: "Hurd", 2: "Masix", 3: "FreeBSD", 4: "Lites"}),
		"Compat":     field.BitsForm(names(compatNames())...),
		"Incompat":   field.BitsForm(names(incompatNames())...),
		"RO":         field.BitsForm(names(roNames())...),
		"HashVersion": field.WordsForm(map[uint64]string{
			0: "legacy",
			1: "half MD4",
			2: "TEA",
			3: "legacy, unsigned",
			4: "half MD4, unsigned",
			5: "TEA, unsigned",
			6: "SipHash",
		}),
		"Flags":        field.BitsForm("signed hash", "unsigned hash", "test"),
		"ChecksumType": field.WordsForm(map[uint64]string{0: "none", 1: "CRC-32C"}),
	}
}

// names lists feature names by their bits.
func names(list []featureName) []string {
	out := make([]string, 32)
	for _, f := range list {
		out[bits.TrailingZeros32(f.bit)] = f.name
	}
	return out
}
