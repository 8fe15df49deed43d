package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"fundus/internal/view"
)

// schemaOf writes the JSON Schema (2020-12) of a document's type.
func schemaOf(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t.Kind() == reflect.Struct:
		properties, required := map[string]any{}, []string{}
		for _, f := range reflect.VisibleFields(t) {
			name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Anonymous || name == "" {
				continue
			}
			properties[name] = schemaOf(f.Type)
			if !strings.Contains(rest, "omitempty") {
				required = append(required, name)
			}
		}
		if _, ok := properties["fundus"]; ok {
			properties["fundus"] = map[string]any{"const": 1}
		}
		return map[string]any{"type": "object", "properties": properties, "required": required, "additionalProperties": false}
	case t.Kind() == reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case t.Kind() == reflect.Bool:
		return map[string]any{"type": "boolean"}
	case t.Kind() == reflect.String:
		return map[string]any{"type": "string"}
	}
	if t.Kind() == reflect.Pointer {
		return schemaOf(t.Elem())
	}
	return map[string]any{"type": "integer"}
}

// TestSchemas holds docs/schema against the types of the documents; -update
// writes them.
func TestSchemas(t *testing.T) {
	for name, doc := range view.Documents() {
		s := schemaOf(reflect.TypeOf(doc))
		s["$schema"], s["title"] = "https://json-schema.org/draft/2020-12/schema", "fundus "+name
		text, err := json.MarshalIndent(s, "", "  ")
		if err != nil {
			t.Fatal(err)
		}
		holdFile(t, filepath.Join("..", "..", "docs", "schema", name+".json"), append(text, '\n'))
	}
}

// conforms holds a value against a schema of the kind that schemaOf writes.
func conforms(value any, schema map[string]any, at string) error {
	if want, ok := schema["const"]; ok && fmt.Sprint(want) != fmt.Sprint(value) {
		return fmt.Errorf("%s is %v, want %v", at, value, want)
	}
	switch schema["type"] {
	case "object":
		object, ok := value.(map[string]any)
		if !ok {
			return fmt.Errorf("%s is no object: %v", at, value)
		}
		properties := schema["properties"].(map[string]any)
		for _, name := range schema["required"].([]string) {
			if _, ok := object[name]; !ok {
				return fmt.Errorf("%s lacks %s", at, name)
			}
		}
		for name, v := range object {
			p, ok := properties[name].(map[string]any)
			if !ok {
				return fmt.Errorf("%s has %s, which the schema does not know", at, name)
			}
			if err := conforms(v, p, at+"."+name); err != nil {
				return err
			}
		}
	case "array":
		list, ok := value.([]any)
		if !ok {
			return fmt.Errorf("%s is no array: %v", at, value)
		}
		for i, v := range list {
			if err := conforms(v, schema["items"].(map[string]any), fmt.Sprintf("%s[%d]", at, i)); err != nil {
				return err
			}
		}
	case "string":
		if _, ok := value.(string); !ok {
			return fmt.Errorf("%s is no string: %v", at, value)
		}
	case "integer":
		if n, ok := value.(json.Number); !ok || strings.ContainsAny(n.String(), ".eE") {
			return fmt.Errorf("%s is no integer: %v", at, value)
		}
	case "boolean":
		if _, ok := value.(bool); !ok {
			return fmt.Errorf("%s is no boolean: %v", at, value)
		}
	}
	return nil
}

// TestDocuments: with --json each command prints exactly one document that
// conforms to its schema, whatever its exit code.
func TestDocuments(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 8GiB --serial LS-20417\n")
	for _, c := range []struct {
		line, schema string
		exit         int
	}{
		{"table new sdb", "draft", 3}, {"draft list", "drafts", 0}, {"table new sdb --commit", "draft", 0}, {"partition add sdb --draft", "draft", 0},
		{"partition add sdb --size 9GiB --commit", "error", 1}, {"partition add sdb --size 9Q", "error", 2}, {"partition add sdb --commit", "draft", 0},
		{"format sdb1 ext4 --label herbarium --commit", "draft", 0}, {"format sdb1 ext4 --commit", "error", 1}, {"partition list sdb", "survey", 0},
		{"survey", "survey", 0}, {"inspect sdb1", "inspection", 0}, {"inspect sda --fields --bytes=0x200+92", "inspection", 0}, {"inspect --configuration", "configuration", 0}, {"types swap", "types", 0}, {"references sda1", "references", 0}, {"survey --unused", "survey", 0}, {"inspect sdb --bytes=8GiB+1", "error", 1}, {"inspect sdb --bytes=1", "error", 2}, {"verify", "findings", 0}, {"table repair sdb --search", "search", 0}, {"rescan sdb", "rescan", 0}, {"table save sdb", "table", 0}, {"resize sdb1 9GiB", "error", 1}, {"fstab add sdb1 /srv/herbarium --commit", "draft", 0},
		{"mount /srv/herbarium", "draft", 0}, {"rehearse", "rehearsal", 0}, {"fstab list", "fstab", 0}, {"options ext4", "options", 0}, {"options", "options", 0}, {"fstab edit /srv/herbarium --add=noatime --draft", "draft", 0}, {"fstab sort", "draft", 0}, {"fstab check", "findings", 0}, {"mount --all", "jobs", 0}, {"swap list", "swap", 0},
		{"deed list", "deeds", 0}, {"deed show 1", "deeds", 0}, {"recover", "message", 0}, {"version", "message", 0}, {"bench boot", "rehearsal", 0},
		{"unmount sdb1", "draft", 0}, {"bench disk fault sdb --cut-at-write=8", "message", 0}, {"format sdb1 ext4 --lose=herbarium --references=keep --commit", "error", 5},
		{"bench boot", "rehearsal", 4}, {"recover --direction=back", "recovery", 0},
	} {
		var out, rest bytes.Buffer
		e := *w.env
		e.o = options{}
		e.Out, e.Err = &out, &rest
		code := Run(context.Background(), &e, append(splitWords(c.line), "--json"))
		dec := json.NewDecoder(&out)
		dec.UseNumber()
		var doc map[string]any
		if err := dec.Decode(&doc); err != nil || code != c.exit || dec.More() || rest.Len() > 0 {
			t.Errorf("%s: exit %d, want %d; %v; beside the document: %q", c.line, code, c.exit, err, rest.String())
			continue
		}
		if c.schema == "table" {
			if doc["kind"] != "table" {
				t.Errorf("%s: %v", c.line, doc)
			}
			continue
		}
		if err := conforms(doc, schemaOf(reflect.TypeOf(view.Documents()[c.schema])), c.schema); err != nil {
			t.Errorf("%s: %v", c.line, err)
		}
	}
}
