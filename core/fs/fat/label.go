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
		return "", fmt.Errorf("%w: %q has %d bytes, FAT has space for %d%s", fs.ErrLabel, label, len(label), labelSize, hint)
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
	if err := v.intoBoth(f, []byte(padded(label, "NO NAME")), label16, label32); err != nil {
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

// SetSerial gives a FAT that is not mounted another serial number, in both boot sectors.
func SetSerial(dev block.Device, serial uint32) error {
	v, f, err := open(dev)
	if err != nil {
		return err
	}
	if f == nil || !f.signed() {
		return fmt.Errorf("%w: there is no FAT with a serial number", fs.ErrUnsupported)
	}
	return v.intoBoth(f, binary.LittleEndian.AppendUint32(nil, serial), serial16, serial32)
}

// intoBoth writes bytes into the copy of the boot sector, where there is one, and then into
// the boot sector itself, at the place that the kind has for them.
func (v volume) intoBoth(f *figures, p []byte, narrow, wide int) error {
	at := narrow
	if f.wide {
		at = wide
		backup := int64(binary.LittleEndian.Uint16(f.boot[50:])) * v.sector
		if copied, err := v.bytes(backup, 512); err != nil {
			return err
		} else if backup > 0 && copied != nil && binary.LittleEndian.Uint16(copied[magicAt:]) == 0xAA55 {
			if err := block.WriteBytes(v.dev, p, backup+int64(at)); err != nil {
				return err
			}
		}
	}
	return errors.Join(block.WriteBytes(v.dev, p, int64(at)), v.dev.Sync())
}
