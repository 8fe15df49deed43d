package view

import (
	"strings"

	"fundus/core/quantity"
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
			one.Settings = append(one.Settings, KeySettingDoc{
				s.Key, s.Meaning, string(s.Form), s.Takes(), s.Words(), s.Default, s.When.Later(), s.Since, s.Value, s.From,
			})
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
	if len(r.List) == 1 {
		p.kindSettings(r.List[0])
		return
	}
	for _, k := range r.List {
		var keys []string
		for _, s := range k.Settings {
			keys = append(keys, s.Key)
		}
		p.wrap(2, p.paint(Strong, k.Kind)+"  ", strings.Join(keys, ", "))
	}
	p.printf("\n")
	p.wrap(0, "", "fundus settings KIND says what each is for, fundus settings KIND KEY one of them, and fundus settings TARGET what it is on a device.")
}

func (p *Printer) kindSettings(k look.KindSettings) {
	heading, title := "by the configuration", visible(k.Kind)+"  "+count(len(k.Settings), "setting")
	if k.Device != "" {
		p.settingsNow(k)
		return
	}
	rows, facts, own := [][]string{}, [][]string{}, false
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
	if len(facts) == 1 {
		p.wrap(0, p.paint(Strong, visible(k.Kind)+" "+rows[0][0])+"  ", facts[0][1]+". It takes "+rows[0][2]+", "+rows[0][3]+".")
		return
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
	p.wrap(0, "", "fundus format TARGET "+k.Kind+" KEY=VALUE sets one; format."+k.Kind+".KEY in the configuration sets it for all.")
}

// readable is a value as it is typed; beside a size of many digits how much that is.
func (p *Printer) readable(word string) string {
	digits := strings.IndexFunc(word, func(r rune) bool { return r < '0' || r > '9' })
	const few = 4
	if size, err := quantity.Parse(word); err == nil && digits > few {
		if b, err := size.Resolve(512, 0); err == nil && size.Form == quantity.Absolute {
			return visible(word) + " (" + p.sum(b) + ")"
		}
	}
	return visible(word)
}

// settingsNow lists what the settings are on a device, those first that can be changed.
func (p *Printer) settingsNow(k look.KindSettings) {
	var later, fixed [][]string
	for _, s := range k.Settings {
		if s.When.Later() {
			later = append(later, []string{s.Key, p.readable(s.Value), s.TakesLater()})
		} else {
			fixed = append(fixed, []string{s.Key, p.readable(s.Value), "cannot be changed"})
		}
	}
	p.printf("%s\n\n", p.paint(Strong, visible(k.Device)+"  "+visible(k.Kind)+"  "+count(len(k.Settings), "setting")))
	p.columns(2, []string{"key", "today", "adjust takes"}, append(later, fixed...))
	p.printf("\n")
	words := "fundus settings " + k.Word + " says what each is for; fundus adjust " + visible(k.Device)
	if len(later) > 0 {
		words += " KEY=VALUE changes one, and"
	}
	p.wrap(0, "", words+" uuid=new changes its identifier.")
}
