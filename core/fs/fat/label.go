package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"fundus/core/block"
	"fundus/core/fs"
)

// Fit gives a label as FAT stores it: in capitals. Errors: fs.ErrLabel with the rule, and a
// label that would fit.
func Fit(label string) (string, error) {
	up := strings.ToUpper(label)
	would := strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' || strings.ContainsRune(forbidden, r) {
			return '_'
		}
		return r
	}, up)
	would = strings.TrimLeft(would[:min(len(would), labelSize)], " _")
	hint := ""
	if would != "" {
		hint = fmt.Sprintf("; %s would fit", would)
	}
	switch {
	case len(label) > labelSize:
		return "", fmt.Errorf("%w: %q has %d bytes, FAT has room for %d%s", fs.ErrLabel, label, len(label), labelSize, hint)
	case strings.TrimRight(label, " ") != label || strings.HasPrefix(label, " "):
		return "", fmt.Errorf("%w: %q begins or ends with a blank%s", fs.ErrLabel, label, hint)
	case strings.ContainsFunc(label, func(r rune) bool { return r < ' ' || r > '~' }):
		return "", fmt.Errorf("%w: %q has letters outside of ASCII, which every system shows otherwise%s", fs.ErrLabel, label, hint)
	case strings.ContainsAny(label, forbidden):
		return "", fmt.Errorf("%w: %q has one of %s%s", fs.ErrLabel, label, forbidden, hint)
	}
	return up, nil
}

// forbidden are signs that no name on a FAT can have.
const forbidden = `"*+,./:;<=>?[\]|`

// ErrFull says that the root directory has no entry left for a label.
var ErrFull = errors.New("the root directory has no entry left for a label")

// SetLabel writes the label into the root directory and both boot sectors; "" takes it out.
// It is as Fit gives it. The entry that systems go by comes last.
func SetLabel(dev block.Device, label string) error {
	label, err := Fit(label)
	if err != nil {
		return err
	}
	v, f, err := open(dev)
	if err != nil {
		return err
	}
	if f == nil {
		return fmt.Errorf("%w: there is no FAT", fs.ErrLabel)
	}
	at, old, err := v.labelPlace()
	if err != nil {
		return err
	}
	if at < 0 && label != "" {
		return ErrFull
	}
	field := label16
	if f.wide {
		field = label32
		backup := int64(binary.LittleEndian.Uint16(f.boot[50:])) * v.sector
		if copied, err := v.bytes(backup, 512); err != nil {
			return err
		} else if backup > 0 && copied != nil && binary.LittleEndian.Uint16(copied[magicAt:]) == 0xAA55 {
			if err := block.WriteBytes(dev, []byte(padded(label, "NO NAME")), backup+int64(field)); err != nil {
				return err
			}
		}
	}
	if err := errors.Join(block.WriteBytes(dev, []byte(padded(label, "NO NAME")), int64(field)), dev.Sync()); err != nil {
		return err
	}
	switch {
	case label == "" && !old:
		return dev.Sync()
	case label == "":
		err = block.WriteBytes(dev, []byte{entryDeleted}, at)
	case old: // its time stays
		entry := labelEntry(label, time.Time{})
		err = block.WriteBytes(dev, entry[:labelSize], at)
	default:
		err = block.WriteBytes(dev, labelEntry(label, time.Time{}), at)
	}
	return errors.Join(err, dev.Sync())
}
