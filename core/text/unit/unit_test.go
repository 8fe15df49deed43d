package unit

import (
	"strings"
	"testing"
)

const mount = "# of the curator\n[Unit]\nDescription=Scans \\\n  of specimens\nBefore=local-fs.target\n\n[Mount]\nWhat = UUID=5eed5eed-0000-4000-8000-000000020417  \r\nWhere=/srv/herbarium\nOptions=noatime,\\\n# kept out\n  nofail\nnonsense\n[Install]\nWantedBy=local-fs.target"

// TestParse: sections, keys, values that go on, and their lines.
func TestParse(t *testing.T) {
	f := Parse([]byte(mount))
	for _, want := range []Setting{{Section: "Unit", Key: "Description", Value: "Scans of specimens", Line: 3}, {Section: "Mount", Key: "What", Value: "UUID=5eed5eed-0000-4000-8000-000000020417", Line: 8},
		{Section: "Mount", Key: "Options", Value: "noatime, nofail", Line: 10}, {Section: "Install", Key: "WantedBy", Value: "local-fs.target", Line: 15}} {
		if got, ok := f.Get(want.Section, want.Key); !ok || got.Value != want.Value || got.Line != want.Line {
			t.Errorf("%s %s: %+v, want %+v", want.Section, want.Key, got, want)
		}
	}
	if _, ok := f.Get("Unit", "What"); ok {
		t.Error("a key of another section")
	}
	what, _ := f.What()
	changed := f.Set(what, "LABEL=herbarium")
	if got := string(changed.Bytes()); got != strings.Replace(mount, "UUID=5eed5eed-0000-4000-8000-000000020417", "LABEL=herbarium", 1) {
		t.Errorf("set:\n%s", got)
	}
}

// TestNames: paths are escaped as systemd's own program answers. The proof of names asks it
// for many more.
func TestNames(t *testing.T) {
	for path, want := range map[string]string{"/": "-.mount", "/srv/herbarium": "srv-herbarium.mount", "/srv/pressed ferns/a-b": `srv-pressed\x20ferns-a\x2db.mount`, "/.cache//x/": `\x2ecache-x.mount`, "/größe": `gr\xc3\xb6\xc3\x9fe.mount`} {
		if got := Name(path, "mount"); got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}

// FuzzParse: any bytes are read without a panic; each setting stands where it was
// found, and to set it to its own bytes changes nothing.
func FuzzParse(f *testing.F) {
	f.Add([]byte(mount))
	f.Add([]byte("[Mount]\nWhat=\\\n\\\n#x\\\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		u := Parse(data)
		for _, s := range u.Settings {
			if s.start < 0 || s.end < s.start || s.end > len(data) {
				t.Fatalf("%+v", s)
			}
			if same := u.Set(s, string(data[s.start:s.end])); string(same.Bytes()) != string(data) {
				t.Fatalf("%+v changes something", s)
			}
		}
	})
}
