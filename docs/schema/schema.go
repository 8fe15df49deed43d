// Package schema has the JSON Schemas (2020-12) of all documents that the program prints, as they are
// shipped: made of the types of the documents and their comments by a test, which holds them to those.
//
// They are open: within a version of documents fields and words of closed lists are added, and none
// renamed, removed or given another meaning, so that a reader leaves out what it does not know.
package schema

import (
	"embed"
	"path"
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
