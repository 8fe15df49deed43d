// Package schema has the JSON Schemas (2020-12) of all documents that the program prints, as they are
// shipped: made of the types of the documents and their comments by a test, which holds them to those.
//
// They are open: within a version of documents fields and words of closed lists are added, and none
// renamed, removed or given another meaning, so that a reader leaves out what it does not know.
package schema

import (
	"embed"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strings"
)

//go:embed *.json
var files embed.FS

// Kinds are all kinds of documents, in order.
func Kinds() (kinds []string) {
	found, _ := files.ReadDir(".") // compiled in
	for _, f := range found {
		kinds = append(kinds, strings.TrimSuffix(f.Name(), path.Ext(f.Name())))
	}
	return kinds
}

// Of is the schema of a kind. Errors: fs.ErrNotExist.
func Of(kind string) ([]byte, error) { return files.ReadFile(kind + ".json") }

// Fields are the names of a kind's fields of the first level, in the order of the alphabet.
func Fields(kind string) ([]string, error) {
	text, err := Of(kind)
	if err != nil {
		return nil, err
	}
	var doc struct {
		Properties map[string]json.RawMessage
	}
	err = json.Unmarshal(text, &doc)
	return slices.Sorted(maps.Keys(doc.Properties)), err
}
