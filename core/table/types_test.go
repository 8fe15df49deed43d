package table

import (
	"errors"
	"testing"

	"github.com/google/uuid"
)

// TestTypes: names, GUIDs and bytes are each of one type alone, well formed, and
// read back as what they are.
func TestTypes(t *testing.T) {
	seen := map[string]string{}
	for _, x := range Types() {
		for _, key := range []string{x.Name, x.GUID, x.Byte} {
			if key != "" && seen[key] != "" {
				t.Errorf("%s is of %s and of %s", key, seen[key], x.Name)
			}
			seen[key] = x.Name
		}
		if x.GUID != "" {
			if id, err := uuid.Parse(x.GUID); err != nil || id.String() != x.GUID {
				t.Errorf("%s: %s: %v", x.Name, x.GUID, err)
			}
		}
		if x.Meaning == "" || x.GUID == "" && x.Byte == "" {
			t.Errorf("%+v", x)
		}
		for _, s := range []Scheme{GPT, MBR} {
			got, err := ParseType(s, x.Name)
			if v := x.Value(s); got != v || (v == "") != errors.Is(err, ErrType) {
				t.Errorf("%s on %s: %q, %v", x.Name, s, got, err)
			}
			if v := x.Value(s); v != "" {
				if back, ok := FindType(s, v); !ok || back.Name != x.Name {
					t.Errorf("%s on %s is found as %s", v, s, back.Name)
				}
			}
		}
	}
}

// TestParseType: other GUIDs and bytes pass, anything else does not.
func TestParseType(t *testing.T) {
	for _, c := range []struct {
		scheme Scheme
		word   string
		want   string
	}{
		{GPT, "Linux", "0fc63daf-8483-4772-8e79-3d69d8477de4"}, {GPT, "5EED5EED-0000-4000-8000-000000020417", "5eed5eed-0000-4000-8000-000000020417"},
		{GPT, "00000000-0000-0000-0000-000000000000", ""}, {GPT, "83", ""}, {GPT, "fat32", ""}, {GPT, "", ""},
		{MBR, "linux", "83"}, {MBR, "0xC", "0c"}, {MBR, "8E", "8e"}, {MBR, "0", ""}, {MBR, "100", ""}, {MBR, "home", ""}, {MBR, "0fc63daf-8483-4772-8e79-3d69d8477de4", ""},
	} {
		if got, err := ParseType(c.scheme, c.word); got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%s %q: %q, %v, want %q", c.scheme, c.word, got, err, c.want)
		}
	}
	for words, want := range map[string]int{"efi": 1, "root": 6, "8e": 1, "0x82": 1, "c12a7328": 1, "arm64": 2, "nothing like it": 0} {
		if got := SearchTypes([]string{words}); len(got) != want {
			t.Errorf("%q: %d types: %v", words, len(got), got)
		}
	}
	if got := SearchTypes([]string{"linux", "arm"}); len(got) != 3 {
		t.Errorf("linux arm: %v", got)
	}
}
