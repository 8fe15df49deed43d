package look

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/near"
	"fundus/core/target"
	"fundus/internal/config"
	"fundus/internal/machine"
)

// KindSettings are the settings of one kind, and on a device what they are there.
type KindSettings struct {
	Kind     string // "ext4"; on a device as it is called there, "FAT32"
	Word     string // the word that format takes for it
	Device   string // "" where the kind alone was asked for
	Settings []SettingNow
}

// SettingNow is a setting with its value: on the device, or else of the configuration.
type SettingNow struct {
	fs.Setting
	Value string // "" where there is none but the default
	From  string // "on sdb1", or where the configuration says it
}

// ErrNoSettings says that there is nothing to be set.
var ErrNoSettings = errors.New("no settings")

// SettingsOf lists the settings of a kind that `format` makes, or of all of them for "".
func SettingsOf(c *config.Config, word string) ([]KindSettings, error) {
	makers := kind.Makers()
	if word != "" {
		m, err := kind.FindMaker(word)
		if err != nil {
			return nil, err
		}
		makers = []kind.Maker{m}
	}
	var out []KindSettings
	for _, m := range makers {
		k := KindSettings{Kind: m.Word, Word: m.Word}
		for _, s := range m.Settings() {
			k.Settings = append(k.Settings, SettingNow{s, c.Formats[m.Word][s.Key], c.From("format." + m.Word + "." + s.Key)})
		}
		out = append(out, k)
	}
	return out, nil
}

// Settings reads the settings of what is on a device.
func Settings(ctx context.Context, r machine.Reader, word string) (KindSettings, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return KindSettings{}, err
	}
	n, err := target.Look(v, word)
	if errors.Is(err, target.ErrNoTarget) {
		return KindSettings{}, fmt.Errorf("%w; nor is it a kind that Fundus makes: %s", err, strings.Join(kind.Words(), ", "))
	}
	if err != nil {
		return KindSettings{}, err
	}
	c, ok := n.Content()
	k, known := kind.Of(c)
	if !ok || !known || k.Values == nil {
		return KindSettings{}, fmt.Errorf("%s: %w: it holds %s, and settings are read of %s", n.Name, ErrNoSettings,
			cmp.Or(advice.Holds(n), "nothing"), strings.Join(withSettings(), ", "))
	}
	values, err := valuesOf(ctx, r, n, k)
	if err != nil {
		return KindSettings{}, machine.About(n.Name, err)
	}
	out := KindSettings{Kind: c.Kind, Word: k.MakerLike(c.Kind).Word, Device: n.Name}
	for _, s := range k.MakerLike(c.Kind).Settings() {
		for _, value := range values {
			if value.Key == s.Key {
				out.Settings = append(out.Settings, SettingNow{s, value.Word, "on " + n.Name})
			}
		}
	}
	return out, nil
}

// Only leaves one setting of each kind; an error where there is none of that name.
func Only(list []KindSettings, key string) ([]KindSettings, error) {
	for i, k := range list {
		at := slices.IndexFunc(k.Settings, func(s SettingNow) bool { return s.Key == key })
		if at < 0 {
			var keys []string
			for _, s := range k.Settings {
				keys = append(keys, s.Key)
			}
			err := fmt.Errorf("%s: %w %q", k.Kind, ErrNoSettings, key)
			if meant := near.Nearest(key, keys); meant != "" {
				err = fmt.Errorf("%w; did you mean %s?", err, meant)
			}
			return nil, err
		}
		list[i].Settings = k.Settings[at : at+1]
	}
	return list, nil
}

// valuesOf reads the settings of what is on the device.
func valuesOf(ctx context.Context, r machine.Reader, n inventory.Node, k kind.Kind) ([]fs.Value, error) {
	dev, err := r.Open(ctx, n.Disk())
	if err != nil {
		return nil, err
	}
	defer dev.Close()
	part, err := block.NewSlice(dev, int64(n.Start), int64(n.Size))
	if err != nil {
		return nil, err
	}
	return k.Values(part)
}

// withSettings names the families that have settings which can be read back.
func withSettings() (names []string) {
	for _, k := range kind.All() {
		if k.Values != nil {
			names = append(names, k.Name)
		}
	}
	return names
}
