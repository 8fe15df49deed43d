package view

import (
	"fmt"

	"fundus/internal/config"
)

// ConfigurationDoc is the document of kind configuration.
type ConfigurationDoc struct {
	Head
	Files    []string     `json:"files"` // that may be there, the later one wins
	Settings []SettingDoc `json:"settings"`
}

// SettingDoc is one key as it is in force.
type SettingDoc struct {
	Key     string `json:"key"`
	Value   string `json:"value"`
	From    string `json:"from"` // "default", FILE:LINE, or an option
	Purpose string `json:"purpose"`
}

// Configuration is what is in force, and from where.
type Configuration struct {
	System, User string // the files
	Entries      []config.Entry
}

// Document implements Report.
func (r Configuration) Document() any {
	doc := ConfigurationDoc{head("configuration"), []string{r.System, r.User}, []SettingDoc{}}
	for _, s := range r.Entries {
		doc.Settings = append(doc.Settings, SettingDoc(s))
	}
	return doc
}

// Words implements Report.
func (r Configuration) Words(p *Printer) {
	system, user, settings := r.System, r.User, r.Entries
	var rows [][]string
	own := 0
	for _, s := range settings {
		from := visible(s.From)
		if s.From == "default" {
			from = p.paint(Free, from)
		} else {
			own++
		}
		value := s.Value
		if value == "" {
			value = "-"
		}
		rows = append(rows, []string{visible(s.Key), visible(value), from})
	}
	files := "of " + visible(system)
	if user != "" {
		files += ", and of " + visible(user) + ", which wins"
	}
	p.printf("%s\n", p.paint(Strong, fmt.Sprintf("%d of %s set", own, count(len(settings), "key"))))
	p.wrap(0, "", "from the lines "+files)
	p.printf("\n")
	p.columns(2, []string{"key", "value", "from"}, rows)
	p.printf("\n")
	var purposes [][]string
	last := ""
	for _, s := range settings {
		if s.Purpose != last {
			purposes = append(purposes, []string{visible(s.Key), s.Purpose})
		}
		last = s.Purpose
	}
	p.facts(purposes)
}
