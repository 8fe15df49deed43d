package view

import (
	"fundus/internal/look"
)

// SettingsDoc is the document of kind settings.
type SettingsDoc struct {
	Head
	Kinds []KindSettingsDoc `json:"kinds"`
}

// KindSettingsDoc lists the settings of one kind, or of what is on one device.
type KindSettingsDoc struct {
	Kind     string          `json:"kind"`
	Device   string          `json:"device,omitempty"`
	Settings []KeySettingDoc `json:"settings"`
}

// KeySettingDoc is one setting.
type KeySettingDoc struct {
	Key       string   `json:"key"`
	Meaning   string   `json:"meaning"`
	Form      string   `json:"form"` // "size" in bytes, "share" in percent
	Takes     string   `json:"takes"`
	Words     []string `json:"words,omitempty"` // where these are few
	Default   string   `json:"default"`
	Unmounted bool     `json:"unmounted"` // whether the format lets it be set later too
	Since     string   `json:"since_linux,omitempty"`
	Value     string   `json:"value,omitempty"` // on the device, or of the configuration
	From      string   `json:"from,omitempty"`
}

func settingsDocument(list []look.KindSettings) SettingsDoc {
	doc := SettingsDoc{head("settings"), []KindSettingsDoc{}}
	for _, k := range list {
		one := KindSettingsDoc{k.Kind, k.Device, []KeySettingDoc{}}
		for _, s := range k.Settings {
			one.Settings = append(one.Settings, KeySettingDoc{s.Key, s.Meaning, string(s.Form), s.Takes(), s.Words(), s.Default, s.When.Later(), s.Since, s.Value, s.From})
		}
		doc.Kinds = append(doc.Kinds, one)
	}
	return doc
}

// Settings is what content can be made with, or was.
type Settings struct{ List []look.KindSettings }

// Document implements Report.
func (r Settings) Document() any { return settingsDocument(r.List) }

// Words implements Report.
func (r Settings) Words(p *Printer) {
	list := r.List
	for i, k := range list {
		if i > 0 {
			p.printf("\n")
		}
		p.kindSettings(k)
	}
}

func (p *Printer) kindSettings(k look.KindSettings) {
	heading, title := "by the configuration", visible(k.Kind)+"  "+count(len(k.Settings), "setting")
	if k.Device != "" {
		heading, title = "today", visible(k.Device)+"  "+title
	}
	rows, facts, own := [][]string{}, [][]string{}, k.Device != ""
	for _, s := range k.Settings {
		own = own || s.Value != ""
		value := s.Value
		if value == "" {
			value = "-"
		}
		rows = append(rows, []string{s.Key, visible(value), s.Takes(), s.When.String()})
		meaning := s.Meaning + ". Default: " + s.Default
		if s.Since != "" {
			meaning += ". Since Linux " + s.Since
		}
		facts = append(facts, []string{s.Key, meaning})
	}
	head := []string{"key", heading, "takes", "can be set"}
	if !own {
		head = append(head[:1], head[2:]...)
		for i := range rows {
			rows[i] = append(rows[i][:1], rows[i][2:]...)
		}
	}
	p.printf("%s\n\n", p.paint(Strong, title))
	p.columns(2, head, rows)
	p.printf("\n")
	p.facts(facts)
	p.printf("\n")
	if k.Device != "" {
		p.wrap(0, "", "They were set when the file system was made; this release changes none of them in place.")
		return
	}
	p.wrap(0, "", "fundus format TARGET "+k.Kind+" KEY=VALUE sets one; format."+k.Kind+".KEY in the configuration sets it for all.")
}
