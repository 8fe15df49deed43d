package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"fundus/core/table/saved"
	"fundus/internal/view"
)

// schemas writes JSON Schemas (2020-12) of types, with the comments of their sources.
type schemas struct {
	says   map[string]string // by type and field
	strict bool              // no field that the type has not
}

// commented reads the comments of the documents' types.
func commented(t *testing.T) schemas {
	t.Helper()
	s := schemas{says: map[string]string{}}
	for _, dir := range []string{"../view", "../../core/table/saved"} {
		paths, _ := filepath.Glob(filepath.Join(dir, "*.go"))
		for _, path := range paths {
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
			if err != nil {
				t.Fatal(err)
			}
			ast.Inspect(f, func(n ast.Node) bool {
				d, ok := n.(*ast.GenDecl)
				if !ok || d.Tok != token.TYPE {
					return true
				}
				for _, spec := range d.Specs {
					s.read(d, spec.(*ast.TypeSpec))
				}
				return true
			})
		}
	}
	return s
}

func (s schemas) read(d *ast.GenDecl, spec *ast.TypeSpec) {
	s.says[spec.Name.Name] = sentence(d.Doc.Text())
	fields, ok := spec.Type.(*ast.StructType)
	if !ok {
		return
	}
	for _, f := range fields.Fields.List {
		for _, name := range f.Names {
			s.says[spec.Name.Name+"."+name.Name] = sentence(f.Doc.Text() + " " + f.Comment.Text())
		}
	}
}

func sentence(comment string) string { return strings.Join(strings.Fields(comment), " ") }

// document is the schema of one kind.
func (s schemas) document(kind string, t reflect.Type) map[string]any {
	out := s.of(t)
	properties := out["properties"].(map[string]any)
	properties["fundus"], properties["kind"] = map[string]any{"const": 1, "description": "the version of documents"}, map[string]any{"const": kind}
	out["$schema"], out["$id"], out["title"] = "https://json-schema.org/draft/2020-12/schema", "urn:fundus:1:"+kind, "fundus "+kind
	return out
}

func (s schemas) of(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t.Kind() == reflect.Struct:
		properties, required := map[string]any{}, []string{}
		s.fields(t, properties, &required)
		out := map[string]any{"type": "object", "properties": properties, "required": required, "additionalProperties": !s.strict}
		if says := s.says[t.Name()]; says != "" {
			out["description"] = says
		}
		return out
	case t.Kind() == reflect.Slice:
		return map[string]any{"type": "array", "items": s.of(t.Elem())}
	case t.Kind() == reflect.Bool:
		return map[string]any{"type": "boolean"}
	case t.Kind() == reflect.String:
		return map[string]any{"type": "string"}
	case t.Kind() == reflect.Pointer:
		return s.of(t.Elem())
	}
	return map[string]any{"type": "integer"}
}

func (s schemas) fields(t reflect.Type, properties map[string]any, required *[]string) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			s.fields(f.Type, properties, required)
			continue
		}
		name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" {
			continue
		}
		p := s.of(f.Type)
		if list := f.Tag.Get("of"); list != "" {
			p["enum"] = view.Closed()[list]
		}
		if says := s.says[t.Name()+"."+f.Name]; says != "" {
			p["description"] = says
		}
		properties[name] = p
		if !strings.Contains(rest, "omit") {
			*required = append(*required, name)
		}
	}
}

// documents are all kinds with their types.
func documents() map[string]any {
	out := view.Documents()
	out["table"] = saved.Document{}
	return out
}

// TestSchemas holds docs/schema against the types of the documents, and its files against their
// kinds; -update writes them.
func TestSchemas(t *testing.T) {
	s, kinds := commented(t), documents()
	for kind, doc := range kinds {
		text, err := json.MarshalIndent(s.document(kind, reflect.TypeOf(doc)), "", "  ")
		if err != nil {
			t.Fatal(err)
		}
		holdFile(t, filepath.Join("..", "..", "docs", "schema", kind+".json"), append(text, '\n'))
	}
	paths, _ := filepath.Glob(filepath.Join("..", "..", "docs", "schema", "*.json"))
	for _, path := range paths {
		if kind := strings.TrimSuffix(filepath.Base(path), ".json"); kinds[kind] == nil {
			t.Errorf("%s is of no kind that is printed", path)
		}
	}
	for kind := range kindsPrinted(t) {
		if kinds[kind] == nil {
			t.Errorf("documents of kind %s are printed, and have no schema", kind)
		}
	}
}

// kindsPrinted are those that the view's sources name.
func kindsPrinted(t *testing.T) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	paths, _ := filepath.Glob("../view/*.go")
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`(?:head|findingsDocument)\("([a-z-]+)"`).FindAllStringSubmatch(string(data), -1) {
			out[m[1]] = true
		}
	}
	if len(out) < 20 {
		t.Errorf("only %d kinds", len(out))
	}
	return out
}

// conforms holds a value against a schema of the kind that schemas write.
func conforms(value any, schema map[string]any, at string) error {
	if list, ok := schema["enum"].([]string); ok && !slices.Contains(list, fmt.Sprint(value)) {
		return fmt.Errorf("%s is %v, which is none of %v", at, value, list)
	}
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
			if !ok && schema["additionalProperties"] == true {
				continue
			}
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

// documentsIn names a directory in which the documents of tests are kept, to be read by another
// program.
const documentsIn = "FUNDUS_TEST_DOCUMENTS"

func keepDocument(t *testing.T, doc []byte) {
	t.Helper()
	dir := os.Getenv(documentsIn)
	if dir == "" {
		return
	}
	f, err := os.CreateTemp(dir, "*.json")
	if err == nil {
		_, err = f.Write(doc)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestDocuments: with --json each command prints exactly one document that
// conforms to its schema, whatever its exit code.
func TestDocuments(t *testing.T) {
	w, open := newWorld(t), commented(t)
	strict := open
	strict.strict = true
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 8GiB --serial LS-20417\n")
	for _, c := range []struct {
		line, schema string
		exit         int
	}{
		{"table new sdb", "draft", 3}, {"draft list", "drafts", 0}, {"table new sdb --commit", "draft", 0}, {"partition add sdb --draft", "draft", 0},
		{"partition add sdb --size 9GiB --commit", "error", 1}, {"partition add sdb --size 9Q", "error", 2}, {"partition add sdb --commit", "draft", 0},
		{"format sdb1 ext4 --label herbarium --commit", "draft", 0}, {"format sdb1 ext4 --commit", "error", 1}, {"partition list sdb", "partitions", 0},
		{"survey", "survey", 0}, {"inspect sdb1", "inspection", 0}, {"inspect sda --fields --bytes=0x200+92", "inspection", 0}, {"inspect --configuration", "configuration", 0}, {"types swap", "types", 0}, {"references sda1", "references", 0}, {"survey --unused", "survey", 0}, {"inspect sdb --bytes=8GiB+1", "error", 1}, {"inspect sdb --bytes=1", "error", 2}, {"verify", "verification", 0}, {"table repair sdb --search", "search", 0}, {"rescan sdb", "rescan", 0}, {"table save sdb", "table", 0}, {"resize sdb1 9GiB", "error", 1}, {"fstab add sdb1 /srv/herbarium --commit", "draft", 0},
		{"mount /srv/herbarium", "draft", 0}, {"rehearse", "rehearsal", 0}, {"fstab list", "fstab", 0}, {"options ext4", "options", 0}, {"options", "options", 0}, {"fstab edit /srv/herbarium --add=noatime --draft", "draft", 0}, {"fstab sort", "draft", 0}, {"fstab check", "fstab-check", 0}, {"mount --all", "jobs", 0}, {"swap list", "swap", 0},
		{"deed list", "deeds", 0}, {"help documents", "kinds", 0}, {"help mount", "error", 2}, {"mount --help", "error", 2}, {"", "error", 2}, {"swap", "error", 2}, {"completion bash", "error", 2}, {"unit list", "units", 0}, {"unit check", "units", 0}, {"deed show 1", "deed", 0}, {"recover", "message", 0}, {"version", "version", 0}, {"bench boot", "rehearsal", 0},
		{"unmount sdb1", "draft", 0}, {"bench disk fault sdb --cut-at-write=8", "message", 0}, {"format sdb1 ext4 --lose=herbarium --references=keep --commit", "error", 5},
		{"bench boot", "rehearsal", 4}, {"recover --direction=back", "recovery", 0},
	} {
		var out, rest bytes.Buffer
		e := *w.env
		e.o = options{}
		e.Out, e.Err = &out, &rest
		code := Run(context.Background(), &e, append(splitWords(c.line), "--json"))
		keepDocument(t, out.Bytes())
		dec := json.NewDecoder(&out)
		dec.UseNumber()
		var doc map[string]any
		if err := dec.Decode(&doc); err != nil || code != c.exit || dec.More() || rest.Len() > 0 {
			t.Errorf("%s: exit %d, want %d; %v; beside the document: %q", c.line, code, c.exit, err, rest.String())
			continue
		}
		if err := conforms(doc, strict.document(c.schema, reflect.TypeOf(documents()[c.schema])), c.schema); err != nil {
			t.Errorf("%s: %v", c.line, err)
		}
		// A reader of today takes tomorrow's document, and none of another kind.
		doc["of_tomorrow"] = "x"
		if err := conforms(doc, open.document(c.schema, reflect.TypeOf(documents()[c.schema])), c.schema); err != nil {
			t.Errorf("%s: the open schema: %v", c.line, err)
		}
		if doc["kind"] = "banana"; conforms(doc, open.document(c.schema, reflect.TypeOf(documents()[c.schema])), c.schema) == nil {
			t.Errorf("%s: a document of another kind passes", c.line)
		}
	}
}

// TestEvents: with --events standard error has documents alone, a line each: each step begins and
// ends once, in their order, in between the bytes grow; standard output stays one document.
func TestEvents(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 8GiB --serial LS-20417\n")
	e := *w.env
	for _, line := range []string{"format sdb ext4 --label herbarium", "mount sdb /srv/herbarium --persist --make"} {
		var out, beside bytes.Buffer
		e.o, e.Out, e.Err = options{}, &out, &beside
		if code := Run(context.Background(), &e, splitWords(line+" --commit --json --events")); code != 0 {
			t.Fatalf("exit %d: %s", code, out.String())
		}
		var doc view.DraftDoc
		if err := json.Unmarshal(out.Bytes(), &doc); err != nil || !doc.Changed {
			t.Errorf("%v: %s", err, out.String())
		}
		var moments []string
		bytesAt, between := int64(0), 0
		for dec := json.NewDecoder(&beside); dec.More(); {
			var p view.ProgressDoc
			dec.DisallowUnknownFields()
			if err := dec.Decode(&p); err != nil {
				t.Fatal(err)
			}
			if p.Kind != "progress" || p.Deed != doc.Deed || p.Of != len(doc.Steps) || p.Title == "" || p.Done < bytesAt || p.Done > p.Total {
				t.Errorf("%s: %+v after %d bytes", line, p, bytesAt)
			}
			if bytesAt = p.Done; p.Moment == "" {
				between++
			} else {
				moments = append(moments, fmt.Sprint(p.Step, p.Moment))
			}
			if p.Moment == "end" && p.Step == p.Of && p.Done != p.Total {
				t.Errorf("%s: ends with %d of %d bytes", line, p.Done, p.Total)
			}
		}
		var want []string
		for i := range doc.Steps {
			want = append(want, fmt.Sprint(i+1, "begin"), fmt.Sprint(i+1, "end"))
		}
		if !slices.Equal(moments, want) || (between >= 2) != strings.HasPrefix(line, "format") {
			t.Errorf("%s: %v, and %d between; want %v", line, moments, between, want)
		}
	}
	e.o, e.Out, e.Err = options{}, io.Discard, io.Discard
	if code := Run(context.Background(), &e, splitWords("survey --events")); code != 2 {
		t.Errorf("--events without --json: exit %d", code)
	}
}
