package mbr

import (
	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
)

// Probe recognises an MBR by the two bytes at the end of its sector, which boot sectors of file
// systems have too: whoever asks has looked for those before.
func Probe(dev block.Device) (*fs.Content, error) {
	t, err := Read(dev)
	if t == nil || err != nil {
		return nil, err
	}
	return &fs.Content{
		Kind:       "MBR",
		Class:      fs.Table,
		State:      fs.Clean,
		UUID:       t.Model().ID,
		Signatures: []extent.Span{{Start: 510, Count: 2}},
	}, nil
}
