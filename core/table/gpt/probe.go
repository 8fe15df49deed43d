package gpt

import (
	"fundus/core/block"
	"fundus/core/fs"
)

// Probe recognises a GPT by either of its headers; nil where there is neither. One of which a
// copy is not good is damaged.
func Probe(dev block.Device) (*fs.Content, error) {
	s, spans, err := Sniff(dev)
	if s == nil || err != nil {
		return nil, err
	}
	c := &fs.Content{Kind: "GPT", Class: fs.Table, State: fs.Clean, Signatures: spans}
	if t := s.Good(); t != nil {
		c.UUID = t.DiskGUID.String()
	}
	if s.Primary == nil || s.Backup == nil {
		c.State = fs.Damaged
	}
	return c, nil
}
