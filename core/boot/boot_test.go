package boot

import (
	"cmp"
	"fmt"
	"strings"
	"testing"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/units"
)

// fernhill is a machine with a root, a herbarium, a fenced disk, two clones
// and a memory card.
func fernhill(lines string) *inventory.Inventory {
	part := func(name, kind, uuid, label string) inventory.Node {
		n := inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Partition, Size: quantity.GiB, Entry: table.Partition{UUID: "p-" + name}}
		if kind != "" {
			class := fs.FileSystem
			if kind == "swap" {
				class = fs.Swap
			}
			n.Contents = []fs.Content{{Kind: kind, Types: map[string][]string{"FAT32": {"vfat", "msdos"}, "ext3": {"ext3", "ext4"}}[kind], Class: class, UUID: uuid, Label: label, Size: quantity.GiB, State: fs.Clean}}
		}
		return n
	}
	fenced := part("sde1", "", "", "")
	fenced.Contents = []fs.Content{{Kind: "fenced", Class: fs.Fence}}
	big := part("sdf1", "ext4", "big", "")
	big.Contents[0].Size++
	return &inventory.Inventory{
		Nodes: []inventory.Node{part("sda1", "ext4", "root", ""), part("sdb1", "ext4", "herb", "herbarium"), part("sdc1", "ext4", "twin", ""),
			part("sdd1", "ext4", "twin", ""), fenced, big, part("sdg1", "FAT32", "12-34", "FIELDCARD"), part("sdh1", "swap", "swp", ""), part("sdi1", "", "", "")},
		Files:     map[string]inventory.File{fstab.Path: {Data: []byte(lines)}},
		Dirs:      map[string]bool{"/": true, "/srv/herbarium": true},
		SwapFiles: map[string]string{"/swapfile": ""},
		Sources:   map[string]bool{"/swapfile": true, "/swapped": false, "/srv/herbarium": true, "/srv/none": false},
	}
}

func TestOutcomeOfALine(t *testing.T) {
	for _, c := range []struct {
		line    string
		want    Outcome
		because string
	}{
		{"UUID=herb /srv/herbarium ext4 defaults 0 2", Fine, "sdb1"},
		{"LABEL=herbarium /srv/new auto defaults 0 2", Fine, "systemd makes the directory"},
		{"PARTUUID=p-sdb1 /srv/herbarium ext4 noatime,x-systemd.device-timeout=5s 0 2", Fine, "sdb1"},
		{"UUID=gone /srv/herbarium ext4 defaults 0 2", Emergency, "waits 90s"},
		{"UUID=gone /srv/herbarium ext4 defaults,x-systemd.device-timeout=5s 0 2", Emergency, "waits 5s"},
		{"UUID=gone /srv/herbarium ext4 nofail 0 2", Left, "no device has"},
		{"UUID=gone none swap sw 0 0", Delay, "no device has"},
		{"UUID=swp none swap sw,pri=5 0 0", Fine, "sdh1"},
		{"UUID=twin /srv/twin ext4 defaults 0 2", Unknown, "sdc1 and sdd1"},
		{"UUID=gone none swap sw,nofail 0 0", Delay, "with nofail too"},
		{"UUID=gone none swap sw,noauto 0 0", Waiting, "noauto"},
		{"UUID=herb /srv/herbarium ext4 remount,noatime 0 2", Emergency, "remount asks"},
		{"UUID=herb /srv/herbarium ext4 X-mount.mkdir,X-fstrim.notrim,helper=x 0 2", Fine, "sdb1"},
		{"UUID=herb /srv/x", Fine, "sdb1"},
		{"UUID=herb /srv/x noxfs user,exec,owner,group,users,comment=seeds 0 2", Fine, "sdb1"},
		{"UUID=herb /srv/x noext4,xfs", Emergency, "it holds ext4, not noext4,xfs"},
		{"LABEL=FIELDCARD /media/card vfat uid=curator,gid=users 0 0", Unknown, "curator"},
		{"UUID=herb /srv/x ext4 context=system_u:object_r:tmp_t 0 0", Fine, "sdb1"},
		{"UUID=gone /srv/x ext4", Emergency, "no device has"},
		{"UUID=gone /srv/x ext4 ro, noatime 0 0", Emergency, "no device has"},
		{"UUID=gone /srv/x ext4 defaults 0 2\r", Emergency, "no device has"},
		{"UUID=gone /srv/x ext4 defaults x y", Emergency, "no device has"},
		{"UUID=gone srv/rel ext4 defaults 0 2", Emergency, "no device has"},
		{"UUID=gone /srv/x ext4 nofail,fail 0 2", Emergency, "no device has"},
		{"UUID=gone /srv/x ext4 noauto,auto 0 2", Emergency, "no device has"},
		{"UUID=herb /srv/x ext4 x-systemd.device-timeout 0 2", Unread, "dies there"},
		{"UUID=gone /srv/x ext4 x-systemd.automount 0 2", Left, "the first access waits 90s"},
		{"UUID=gone /srv/x ext4 _netdev 0 2", Delay, "waits 90s"},
		{"UUID=gone /srv/x ext4 _netdev,nofail 0 2", Left, "no device has"},
		{"label=herbarium /srv/x ext4 defaults 0 2", Emergency, "name of a file"},
		{"UUID=herb none ext4 defaults 0 2", Passed, "holds no /"},
		{"UUID=herb /srv/../x ext4 defaults 0 2", Unread, "two dots"},
		{"/swapfile none swap sw 0 0", Fine, "no device is waited for"},
		{"/swapped none swap sw 0 0", Left, "no file /swapped"},
		{"/srv/herbarium /srv/again none bind 0 0", Fine, "a second time"},
		{"/srv/none /srv/again none bind 0 0", Fine, "systemd makes it"},
		{"UUID=herb /srv/herbarium ext4 nofail,fail 0 2", Emergency, "does not know"},
		{"//vault/images /srv/i cifs defaults 0 0", Remote, "does not depend"},
		{"none /srv/b bpf defaults 0 0", Fine, "in memory"},
		{"none /srv/b lustre2 defaults 0 0", Unknown, "nothing is waited for"},
		{"UUID=herb /srv/x ext4 commit=often 0 2", Emergency, "no value of commit"},
		{"PARTUUID=p-sde1 /srv/x ext4 defaults 0 2", Emergency, "fenced"},
		{"UUID=big /srv/x ext4 defaults 0 2", Emergency, "the device only"},
		{"UUID=herb /srv/herbarium xfs defaults 0 2", Emergency, "it holds ext4, not xfs"},
		{"/dev/sdi1 /srv/x ext4 defaults 0 2", Emergency, "no file system"},
		{"LABEL=FIELDCARD /media/card vfat nofail,umask=022 0 0", Fine, "sdg1"},
		{"UUID=herb /srv/x ext4 noauto 0 0", Waiting, "noauto"},
		{"vault:/images /srv/i nfs defaults 0 0", Remote, "does not depend"},
		{"UUID=herb /srv/x ext4 no_such_option 0 0", Emergency, "no_such_option"},
		{"tmpfs /tmp tmpfs size=1G 0 0", Fine, "in memory"},
	} {
		r := Rehearse(fernhill(c.line))
		if got := r.Lines[0]; got.Outcome != c.want || !strings.Contains(got.Reason, c.because) {
			t.Errorf("%s: %s (%s), want %s (%s)", c.line, got.Outcome, got.Reason, c.want, c.because)
		}
	}
}

func TestVerdictIsTheWorstLine(t *testing.T) {
	fine, delay, shell := "UUID=root / ext4 defaults 0 1\n", "UUID=x none swap sw 0 0\n", "UUID=x /srv/x ext4 defaults 0 2\n"
	for lines, want := range map[string]Verdict{fine: ComesUp, "": ComesUp, fine + delay: WithDelays, delay + shell + fine: Shell,
		"UUID=root / ext4 x-systemd.mount-timeout\n": Without, fine + "UUID=x /srv ext4 nofail\nUUID=herb /srv/herbarium ext4\n": Shell, fine + fine: ComesUp} {
		if got := Rehearse(fernhill(lines)).Verdict; got != want {
			t.Errorf("%q: %s, want %s", lines, got, want)
		}
	}
}

// TestUnits: what people keep as units is rehearsed as what lines say; a unit counts before a
// line for its place, which still ties it to the boot, and a mask starts nothing.
func TestUnits(t *testing.T) {
	const herb, gone = "[Mount]\nWhat=/dev/disk/by-uuid/herb\nWhere=/srv/herbarium\nType=ext4\n", "[Mount]\nWhat=/dev/disk/by-uuid/gone\nWhere=/srv/herbarium\nType=ext4\n"
	required, wanted := "local-fs.target.requires/srv-herbarium.mount", "local-fs.target.wants/srv-herbarium.mount"
	for name, c := range map[string]struct {
		lines string
		tree  map[string]string
		want  string
	}{
		"it is there":             {"", map[string]string{"srv-herbarium.mount": herb, required: "->"}, "comes up: unit mounted"},
		"it is not, and required": {"", map[string]string{"srv-herbarium.mount": gone, required: "->"}, "emergency shell: unit emergency shell"},
		"it is not, and wanted":   {"", map[string]string{"srv-herbarium.mount": gone + "Options=nofail\n", wanted: "->"}, "comes up: unit left out"},
		"nothing pulls it in":     {"", map[string]string{"srv-herbarium.mount": gone}, "comes up:"},
		"the line ties it":        {"UUID=herb /srv/herbarium ext4 defaults 0 2\n", map[string]string{"srv-herbarium.mount": gone}, "emergency shell: 1 passed over, unit emergency shell"},
		"in place of the line":    {"UUID=gone /srv/herbarium ext4 defaults 0 2\n", map[string]string{"srv-herbarium.mount": herb}, "comes up: 1 passed over, unit mounted"},
		"a mask over a line":      {"UUID=herb /srv/herbarium ext4 nofail 0 2\n", map[string]string{"srv-herbarium.mount": ""}, "comes up without mounts that fstab asks for: 1 not mounted"},
		"a mask that is required": {"UUID=herb /srv/herbarium ext4 defaults 0 2\n", map[string]string{"srv-herbarium.mount": ""}, "comes up without mounts that fstab asks for: 1 not mounted"},
		"what goes with it":       {"UUID=root / ext4\nUUID=herb /srv/herbarium ext4 defaults 0 2\nUUID=gone /srv/x ext4\nLABEL=FIELDCARD /media/x vfat x-systemd.automount\nUUID=swp none swap\nLABEL=FIELDCARD /media/y vfat noauto\n", map[string]string{"srv-herbarium.mount": ""}, "unknown: 1 mounted, 2 not mounted, 3 unknown, 4 unknown, 5 mounted, 6 not at boot"},
		"a wanted mask alone":     {"UUID=herb /srv/herbarium ext4 nofail\nLABEL=FIELDCARD /media/x vfat\n", map[string]string{"srv-herbarium.mount": ""}, "comes up without mounts that fstab asks for: 1 not mounted, 2 mounted"},
		"it is not modelled":      {"", map[string]string{"srv-herbarium.mount": "[Unit]\nConditionPathExists=/srv/open\n" + herb, required: "->"}, "unknown: unit unknown"},
		"an automount, absent":    {"", map[string]string{"srv-herbarium.mount": gone, "srv-herbarium.automount": "[Automount]\nWhere=/srv/herbarium\n", "local-fs.target.wants/srv-herbarium.automount": "->"}, "comes up: unit left out"},
		"swap that does not come": {"", map[string]string{"dev-sdz1.swap": "[Swap]\nWhat=/dev/sdz1\n", "swap.target.requires/dev-sdz1.swap": "->"}, "comes up with delays: unit delays the boot"},
		"what lies below it":      {"UUID=root /srv/herbarium/x ext4\n", map[string]string{"srv-herbarium.mount": gone + "Options=nofail\n", wanted: "->"}, "emergency shell: 1 emergency shell, unit emergency shell"},
	} {
		v := fernhill(c.lines)
		tree := units.Tree{}
		for path, text := range c.tree {
			tree[path] = units.Entry{Data: []byte(text)}
			if text == "->" {
				tree[path] = units.Entry{To: "../" + path[strings.LastIndex(path, "/")+1:]}
			}
		}
		v.UnitFiles = []units.Place{{Dir: units.Dirs()[0], Tree: tree}}
		r := Rehearse(v)
		var words []string
		for _, l := range r.Lines {
			at := fmt.Sprint(l.Number)
			if l.File != "" {
				at = "unit"
			}
			words = append(words, at+" "+string(l.Outcome))
		}
		if got := strings.TrimSpace(string(r.Verdict) + ": " + strings.Join(words, ", ")); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
}

// FuzzRehearse: whatever stands in the table, in a unit, a drop-in and on the command line, the
// walk ends, says the same again, and has a result for every line.
func FuzzRehearse(f *testing.F) {
	f.Add("UUID=herb /srv ext4 x-systemd.requires=/srv/a,x-systemd.before=local-fs.target\n", "[Unit]\nAfter=srv.mount\n[Mount]\nWhat=/dev/sdb1\nWhere=/srv/a\n", "root=UUID=root ro single")
	f.Add("/srv /srv/a none bind\nUUID=swp none swap sw,x-systemd.makefs\n", "[Unit]\nRequires=%n sysinit.target\nBefore=basic.target\n[Mount]\nWhere=/srv/a\n", "systemd.unit=local-fs.target resume=UUID=x")
	f.Fuzz(func(t *testing.T, lines, text, words string) {
		v := fernhill(lines)
		v.Files["/proc/cmdline"] = inventory.File{Data: []byte(words)}
		tree := units.Tree{"srv-a.mount": {Data: []byte(text)}, "sysinit.target.requires/srv-a.mount": {To: "../srv-a.mount"}, "a.service": {Data: []byte(text)}, "basic.target.wants/a.service": {To: "../a.service"}, "srv-.mount.d/x.conf": {Data: []byte(text)}}
		v.UnitFiles = []units.Place{{Dir: units.Dirs()[0], Tree: tree}}
		r := Rehearse(v)
		if again := Rehearse(v); r.String() != again.String() || fmt.Sprint(said(r)) != fmt.Sprint(said(again)) {
			t.Errorf("%v, and then %v", said(r), said(again))
		}
		numbered := 0
		for _, l := range r.Lines {
			if l.Outcome.Rank() < 0 || r.Verdict.Rank() < 0 {
				t.Errorf("%q, %q", r.Verdict, l.Outcome)
			}
			if l.File == "" {
				numbered++
			}
		}
		if numbered != len(v.Units()) {
			t.Errorf("%d lines of %d", numbered, len(v.Units()))
		}
	})
}

// TestRoot: the root by every form of root=, with and without an initial file system.
func TestRoot(t *testing.T) {
	for _, c := range []struct {
		words  string
		initrd Answer
		want   string
	}{
		{"root=UUID=root ro", Yes, "comes up"},
		{"root=UUID=root ro", No, "does not find its root: root=UUID=root: without an initial file system the kernel knows no such name; PARTUUID= it does"},
		{"root=LABEL=herbarium", Yes, "comes up"},
		{"root=LABEL=herbarium", No, "does not find its root: root=LABEL=herbarium: without"},
		{"root=PARTUUID=P-SDA1", No, "comes up"},
		{"root=PARTUUID=p-sda1/PARTNROFF=1", No, "comes up"},
		{"root=PARTUUID=gone", No, "does not find its root: root=PARTUUID=gone: no device has"},
		{"root=/dev/sda1 rootfstype=ext4", No, "comes up"},
		{"root=/dev/sda1 rootfstype=xfs", No, "does not find its root: root=/dev/sda1 is sda1: it holds ext4, not xfs"},
		{"root=/dev/sda9", No, "does not find its root: root=/dev/sda9: no device has"},
		{"root=8:1", No, "comes up"},
		{"root=8:77", No, "does not find its root: root=8:77"},
		{"root=/dev/sdi1", Yes, "does not find its root: root=/dev/sdi1 is sdi1: it holds no file system"},
		{"root=UUID=twin", Yes, "unknown whether it comes up: root=UUID=twin is carried by sdc1 and sdd1"},
		{"root=/dev/mapper/vault", Yes, "unknown whether it comes up: root=/dev/mapper/vault: what it names cannot be seen"},
		{"root=/dev/mapper/vault", No, "does not find its root: root=/dev/mapper/vault: without"},
		{"root=gpt-auto", Yes, "comes up"},
		{"root=/dev/nfs", No, "comes up"},
		{"quiet", Yes, "comes up"},
		{"root=UUID=root systemd.volatile=overlay", Yes, "unknown whether it comes up: systemd.volatile=overlay"},
		{"root=UUID=root mount.usr=UUID=gone", Yes, "unknown whether it comes up: mount.usr=UUID=gone names no device"},
		{"root=/dev/sda1 mount.usr=UUID=gone", No, "comes up"},
		{"root=UUID=root emergency", Yes, "ends in the emergency shell: the command line asks for it"},
		{"root=UUID=root resume=UUID=gone", Yes, "comes up with delays"},
		{"root=UUID=root resume=UUID=gone noresume", Yes, "comes up"},
		{"root=UUID=root resume=UUID=gone", No, "does not find its root"},
		{"root=UUID=root resume=UUID=swp", Yes, "comes up"},
		{"root=UUID=root systemd.mask=srv-herbarium.mount", Yes, "comes up without 1 mount that fstab asks for"},
		{"root=UUID=root systemd.unit=nothing.service", Yes, "comes up"},
	} {
		v := fernhill("UUID=root / ext4\nUUID=herb /srv/herbarium ext4\n")
		v.Nodes[0].Device = "8:1"
		r := RehearseFrom(v, Start{Words: units.Words(c.words), From: "test", Initrd: c.initrd})
		if got := because(r); !strings.HasPrefix(got, c.want) || c.want == "comes up" && got != c.want {
			t.Errorf("%s, %d: %s, want %s", c.words, c.initrd, got, c.want)
		}
	}
}

// TestNext: the next boot starts by the entry that says this boot's words, else by those words,
// else by the first entry; and where nothing is said nothing is made up.
func TestNext(t *testing.T) {
	menu := "menuentry 'first' {\n linux /vmlinuz root=UUID=a quiet\n initrd /i\n}\nmenuentry 'second' {\n linux /vmlinuz root=/dev/sda1\n}\n"
	for _, c := range []struct{ menu, now, want string }{
		{menu, "BOOT_IMAGE=/vmlinuz root=/dev/sda1", "boot entry second /dev/sda1 2"},
		{menu, "root=UUID=b", "this boot's command line UUID=b 1"},
		{menu, "", "boot entry first UUID=a 1"},
		{"", "root=/dev/sdb1", "this boot's command line /dev/sdb1 0"},
		{"", "root=LABEL=x", "this boot's command line LABEL=x 1"},
		{"", "", "  0"},
	} {
		v := &inventory.Inventory{Files: map[string]inventory.File{"/proc/cmdline": {Data: []byte(c.now)}}}
		if c.menu != "" {
			v.Files["/boot/grub/grub.cfg"] = inventory.File{Data: []byte(c.menu)}
		}
		s := Next(v)
		if got := fmt.Sprintf("%s %s %d", s.From, s.Words.Last("root"), s.Initrd); got != c.want {
			t.Errorf("%q: %q, want %q", c.now, got, c.want)
		}
	}
}

// because is the verdict with its reason.
func because(r Report) string {
	if r.Why == "" {
		return r.String()
	}
	return r.String() + ": " + r.Why
}

// TestSystemsOwnPlace: without an initial file system nobody can tell what becomes of a boot in
// which /usr is mounted over the programs that systemd itself started from; with one, which mounts
// it before, or where nothing asks for it, it comes up.
func TestSystemsOwnPlace(t *testing.T) {
	for _, c := range []struct {
		options string
		initrd  Answer
		want    string
	}{
		{"defaults", No, "unknown whether it comes up: /usr (line 2) is mounted over the system's own programs"},
		{"nofail", No, "unknown whether it comes up: /usr (line 2)"},
		{"defaults", Yes, "comes up"},
		{"noauto", No, "comes up"},
	} {
		v := fernhill("UUID=root / ext4\nUUID=herb /usr ext4 " + c.options + "\n")
		v.Dirs["/usr"] = true
		r := RehearseFrom(v, Start{Words: units.Words("root=/dev/sda1"), From: "test", Initrd: c.initrd})
		if got := because(r); !strings.HasPrefix(got, c.want) || c.want == "comes up" && got != c.want {
			t.Errorf("%s, %d: %s, want %s", c.options, c.initrd, got, c.want)
		}
	}
}

// TestAreasGoAlong: what is swapped on goes with its disk, and has the name that its disk gets, an
// area as well as the device that a file lies on.
func TestAreasGoAlong(t *testing.T) {
	v := &inventory.Inventory{Areas: []inventory.Area{{Path: "/dev/sdb1", Node: "sdb1"}, {Path: "/swapfile", File: true, On: "sda1"}}}
	for _, disk := range []string{"sda", "sdb"} {
		v.Nodes = append(v.Nodes, inventory.Node{Name: disk, Path: "/dev/" + disk, Form: inventory.Disk}, inventory.Node{Name: disk + "1", Path: "/dev/" + disk + "1", Parent: disk, Form: inventory.Partition, Number: 1})
	}
	if left := Absent(v, "sdb").Areas; len(left) != 1 || left[0].Path != "/swapfile" {
		t.Errorf("without sdb: %+v", left)
	}
	if left := Absent(v, "sda").Areas; len(left) != 1 || left[0].Node != "sdb1" {
		t.Errorf("without sda: %+v", left)
	}
	other, names := Shuffled(v, 1)
	if got, want := fmt.Sprint(other.Areas[0].Path, other.Areas[0].Node, other.Areas[1].Path, other.Areas[1].On), fmt.Sprint("/dev/"+names["sdb"]+"1", names["sdb"]+"1", "/swapfile", names["sda"]+"1"); got != want {
		t.Errorf("%v: %s, want %s", names, got, want)
	}
}

// TestEncryptedAndFoundByType: what crypttab opens with a key comes, what a person has to open is
// unknown; what is found by its type is mounted where nothing else is.
func TestEncryptedAndFoundByType(t *testing.T) {
	vault := func(crypttab string) *inventory.Inventory {
		v := fernhill("UUID=root / ext4\n/dev/mapper/vault /srv/herbarium ext4\n")
		v.Nodes = append(v.Nodes, inventory.Node{Name: "sdj1", Path: "/dev/sdj1", Form: inventory.Partition, Contents: []fs.Content{{Kind: "LUKS", Class: fs.Encrypted, UUID: "vlt"}}},
			inventory.Node{Name: "dm-0", Path: "/dev/dm-0", Alias: "vault", Form: inventory.Volume, Size: quantity.GiB, BuiltOn: []string{"sdj1"}, Links: []string{"/dev/mapper/vault"}, Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, UUID: "in", Size: quantity.GiB, State: fs.Clean}}})
		v.Uses = []inventory.Use{{Node: "sdj1", How: inventory.Held, Where: "dm-0"}}
		v.Files["/etc/crypttab"] = inventory.File{Data: []byte(crypttab)}
		return v
	}
	for crypttab, want := range map[string]string{
		"vault UUID=vlt /etc/key luks\n":         "comes up",
		"vault UUID=vlt none luks\n":             "unknown whether it comes up; 1 line cannot be told",
		"vault UUID=vlt /etc/key luks,noauto\n":  "unknown whether it comes up; 1 line cannot be told",
		"":                                       "unknown whether it comes up; 1 line cannot be told",
		"vault UUID=none /etc/key luks,nofail\n": "ends in the emergency shell after 90s (1 line)",
		"other UUID=none - luks\nvault UUID=vlt /etc/key\n": "comes up after 90s of waiting",
	} {
		if got := Rehearse(vault(crypttab)).String(); got != want {
			t.Errorf("%q: %s, want %s", crypttab, got, want)
		}
	}
	const home, srv = "933ac7e1-2eb4-4f13-b844-0e14e2aef915", "3b8f8425-20e0-4f3b-907f-1a25a76f98e8"
	for name, c := range map[string]struct {
		spoil func(v *inventory.Inventory)
		want  string
	}{
		"it is":         {func(*inventory.Inventory) {}, "[sdx2 is mounted at /home, found by its type: no line says so]"},
		"it is damaged": {func(v *inventory.Inventory) { v.Nodes[2].Contents[0].State = fs.Damaged }, "[]"},
		"a line is for it": {func(v *inventory.Inventory) {
			v.Files[fstab.Path] = inventory.File{Data: []byte("UUID=root / ext4\nUUID=h /home ext4\n")}
		}, "[]"},
		"something is there":    {func(v *inventory.Inventory) { v.System.Filled = map[string]bool{"/home": true} }, "[]"},
		"not by itself":         {func(v *inventory.Inventory) { v.Nodes[2].Entry.Attributes = noAutoBit }, "[]"},
		"an MBR":                {func(v *inventory.Inventory) { v.Nodes[0].Table.Scheme = table.MBR }, "[]"},
		"another type":          {func(v *inventory.Inventory) { v.Nodes[2].Entry.Type = srv }, "[sdx2 is mounted at /srv, found by its type: no line says so]"},
		"no such generator":     {func(v *inventory.Inventory) { v.System.Generators = []string{"systemd-fstab-generator", "site"} }, "[]"},
		"one of the site alone": {func(v *inventory.Inventory) { v.System.Generators = []string{"site"} }, "[sdx2 is mounted at /home, found by its type: no line says so]"},
		"it is turned off": {func(v *inventory.Inventory) {
			v.Files["/proc/cmdline"] = inventory.File{Data: []byte("root=UUID=root systemd.gpt_auto=0")}
		}, "[]"},
	} {
		part := func(number int, id, typ string) inventory.Node {
			return inventory.Node{Name: fmt.Sprintf("sdx%d", number), Path: fmt.Sprintf("/dev/sdx%d", number), Form: inventory.Partition, Parent: "sdx", Number: number, Size: quantity.GiB, Linux: inventory.KernelPart{Number: number, Size: quantity.GiB}, Entry: table.Partition{Number: number, UUID: "p" + id, Type: typ},
				Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, UUID: id, Size: quantity.GiB, State: fs.Clean}}}
		}
		v := &inventory.Inventory{Nodes: []inventory.Node{{Name: "sdx", Path: "/dev/sdx", Form: inventory.Disk, Table: &table.Table{Scheme: table.GPT}}, part(1, "root", ""), part(2, "h", home)},
			Files: map[string]inventory.File{fstab.Path: {Data: []byte("UUID=root / ext4\n")}}, Dirs: map[string]bool{"/": true, "/home": true, "/srv": true}}
		c.spoil(v)
		r := Rehearse(v)
		if got := fmt.Sprint(r.Notes); got != c.want || name == "it is damaged" && r.Verdict != Shell {
			t.Errorf("%s: %s (%s), want %s", name, got, r.Verdict, c.want)
		}
	}
}

// TestElsewhere: of a system below a directory nobody knows here which names its disks will have;
// an identifier means the same there.
func TestElsewhere(t *testing.T) {
	for lines, want := range map[string]string{
		"UUID=root / ext4\n/dev/sdb1 /srv/herbarium ext4\n":        "unknown whether it comes up; 1 line cannot be told",
		"UUID=root / ext4\n/dev/sdb1 /srv/herbarium ext4 nofail\n": "comes up as far as can be told; 1 line cannot be told",
		"/dev/sda1 / ext4\n": "unknown whether it comes up",
		"UUID=root / ext4\nLABEL=herbarium /srv/herbarium ext4\n": "comes up",
	} {
		v := fernhill(lines)
		v.Machine.Root = "/mnt"
		if got := Rehearse(v).String(); got != want {
			t.Errorf("%q: %s, want %s", lines, got, want)
		}
	}
}

// TestNewestEntry: of a directory of entries the one that is started by itself, as the Boot
// Loader Specification orders them.
func TestNewestEntry(t *testing.T) {
	for _, c := range []struct {
		files map[string]string
		want  string
	}{
		{map[string]string{"deb-6.9.0": "", "deb-6.10.0": ""}, "deb-6.10.0 deb-6.9.0"},
		{map[string]string{"a": "version 6.9.0\n", "b": "version 6.10.0\n", "c": "version 6.10.0\n"}, "c b a"},
		{map[string]string{"a": "sort-key rescue\nversion 9\n", "b": "sort-key debian\nversion 6.9\n", "c": "sort-key debian\nversion 6.10\n", "z": "version 99\n"}, "c b a z"},
	} {
		v := &inventory.Inventory{Files: map[string]inventory.File{}}
		for name, text := range c.files {
			v.Files["/boot/loader/entries/"+name+".conf"] = inventory.File{Data: []byte(text + "linux /vmlinuz\noptions root=LABEL=fernhill\n")}
		}
		var got []string
		for _, e := range Entries(v) {
			got = append(got, e.ID())
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%v: %v, want %s", c.files, got, c.want)
		}
	}
}

// TestPlainNames: a name that only begins like that of a device there is says nothing of itself.
func TestPlainNames(t *testing.T) {
	m := &machine{v: &inventory.Inventory{Nodes: []inventory.Node{{Name: "dm-1", Path: "/dev/mapper/data"}, {Name: "card", Path: ""}}}}
	for path, want := range map[string]bool{"/dev/mapper/data": true, "/dev/mapper/data2": false, "/dev/sdq1": true, "/dev/vg0/log": false} {
		if got := m.plain(path); got != want {
			t.Errorf("%s: %v", path, got)
		}
	}
}

// TestVersions: each is older than the next, and none than itself.
func TestVersions(t *testing.T) {
	list := []string{"~rc1", "", "a", "b", "6.9~rc1", "6.9", "6.9-1", "6.9-2", "6.9^1", "6.9.1", "6.9.2", "6.10", "6.10a", "6.10b"}
	for i, a := range list {
		for k, b := range list {
			if got := versions(a, b); got != cmp.Compare(i, k) {
				t.Errorf("versions(%q, %q) = %d", a, b, got)
			}
		}
	}
	if versions("6.09", "6.9") != 0 || versions("6.9 ", "6.9") != 0 {
		t.Error("zeros in front and blanks count")
	}
}
