package table

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
)

// Type is a partition type by its short name, as the schemes write it.
type Type struct {
	Name    string // what it is for, with the processor behind @ where that matters
	GUID    string // of GPT; empty where it has none
	Byte    string // of MBR, two hexadecimal digits; empty where it has none
	Meaning string
	Holds   []string // kinds of content that fit; none: not judged
}

// ForLinux reports whether file systems of Linux are kept in it.
func (t Type) ForLinux() bool { return slices.Contains(t.Holds, "ext4") }

// ErrType says that a word is no type of a scheme.
var ErrType = errors.New("no partition type of this scheme")

// Types lists the partition types that have a short name.
//
// Sources: the UEFI Specification 2.10, 5.2.2 and 5.3.3; the Discoverable
// Partitions Specification; the Boot Loader Specification; and the values that
// the systems named in their meanings use.
func Types() []Type {
	linux := []string{"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "jfs", "reiserfs", "nilfs2", "minix", "LUKS", "squashfs", "erofs"}
	fat := []string{"FAT12", "FAT16", "FAT32"}
	windows := append([]string{"ntfs", "exfat", "BitLocker"}, fat...)
	members := []string{"physical volume"}
	return []Type{
		{"linux", "0fc63daf-8483-4772-8e79-3d69d8477de4", "83", "Linux file system", linux},
		{"swap", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "82", "Linux swap", []string{"swap", "LUKS"}},
		{"esp", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "ef", "EFI system partition", fat},
		{"boot-extra", "bc13c2ff-59e6-4262-a352-b275fd6f7172", "ea", "boot loader, extended (/boot)", append(fat, linux...)},
		{"root@x86-64", "4f68bce3-e8cd-4db1-96e7-fbcaf984b709", "", "Linux root, x86-64", linux},
		{"root@x86", "44479540-f297-41b2-9af7-d131d5f0458a", "", "Linux root, x86", linux},
		{"root@arm64", "b921b045-1df0-41c3-af44-4c6f280d3fae", "", "Linux root, 64-bit ARM", linux},
		{"root@arm", "69dad710-2ce4-4e3c-b16c-21a1d49abed3", "", "Linux root, 32-bit ARM", linux},
		{"root@riscv64", "72ec70a6-cf74-40e6-bd49-4bda08e8f224", "", "Linux root, 64-bit RISC-V", linux},
		{"usr@x86-64", "8484680c-9521-48c6-9c11-b0720656f69e", "", "Linux /usr, x86-64", linux},
		{"usr@arm64", "b0e01050-ee5f-4390-949a-9101b17104e9", "", "Linux /usr, 64-bit ARM", linux},
		{"/home", "933ac7e1-2eb4-4f13-b844-0e14e2aef915", "", "Linux /home", linux},
		{"home-of-user", "773f91ef-66d4-49b5-bd83-d683bf40ad16", "", "home of one user", linux},
		{"/srv", "3b8f8425-20e0-4f3b-907f-1a25a76f98e8", "", "Linux /srv", linux},
		{"/var", "4d21b016-b534-45c2-a9fb-5c16e091fd2d", "", "Linux /var", linux},
		{"/var/tmp", "7ec6f557-3bc5-4aca-b293-16ef5df639d1", "", "Linux /var/tmp", linux},
		{"verity-of-root@x86-64", "2c7357ed-ebd2-46d9-aec1-23d437ec2bf5", "", "verity of the root, x86-64", nil},
		{"verity-of-usr@x86-64", "77ff5f63-e7b6-4633-acf4-1565b864c0e6", "", "verity of /usr, x86-64", nil},
		{"volume", "e6d6d379-f507-44c2-a23c-238f2a3df928", "8e", "Linux physical volume", members},
		{"raid", "a19d880f-05fc-4d3b-a006-743f0f84911e", "fd", "Linux software RAID", []string{"RAID member"}},
		{"luks", "ca7d7ccb-63ed-4c53-861c-1742536059cc", "", "Linux, encrypted (LUKS)", []string{"LUKS"}},
		{"crypt", "7ffec5c9-2d00-49b7-8941-3ea10a5586b7", "", "Linux, encrypted without a header", nil},
		{"reserved", "8da63339-0007-60c0-c436-083ac8230908", "", "Linux, reserved", nil},
		{"bios-boot", "21686148-6449-6e6f-744e-656564454649", "", "boot loader's second part on BIOS", nil},
		{"data", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "07", "Windows data: NTFS, exFAT, FAT", windows},
		{"windows-reserved", "e3c9e316-0b5c-4db8-817d-f92df00215ae", "", "Windows, reserved", nil},
		{"windows-recovery", "de94bba4-06d1-4d40-a16a-bfd50179d6ac", "27", "Windows recovery", windows},
		{"windows-dynamic", "af9b60a0-1431-4f62-bc68-3311714a69ad", "42", "Windows dynamic volume", nil},
		{"windows-dynamic-info", "5808c8aa-7e8f-42e0-85d2-e1e90434cfb3", "", "what Windows knows of its dynamic volumes", nil},
		{"fat12", "", "01", "FAT12", fat},
		{"fat16-small", "", "04", "FAT16 below 32 MiB", fat},
		{"fat16-chs", "", "06", "FAT16, by cylinders", fat},
		{"fat16", "", "0e", "FAT16", fat},
		{"fat32-chs", "", "0b", "FAT32, by cylinders", fat},
		{"fat32", "", "0c", "FAT32", fat},
		{"extended", "", "0f", "holds logical partitions", nil},
		{"extended-chs", "", "05", "holds logical partitions, by cylinders", nil},
		{"extended-linux", "", "85", "holds logical partitions, for Linux alone", nil},
		{"protective", "", "ee", "stands for a GPT", nil},
		{"other-data", "", "da", "data without a file system", nil},
		{"apple-hfs", "48465300-0000-11aa-aa11-00306543ecac", "af", "Apple HFS+", []string{"hfsplus"}},
		{"apple-apfs", "7c3457ef-0000-11aa-aa11-00306543ecac", "", "Apple APFS", []string{"apfs"}},
		{"apple-boot", "426f6f74-0000-11aa-aa11-00306543ecac", "ab", "Apple boot", nil},
		{"zfs", "6a898cc3-1dd2-11b2-99a6-080020736631", "bf", "ZFS, also Solaris /usr", []string{"ZFS member"}},
		{"freebsd", "516e7cb4-6ecf-11d6-8ff8-00022d09712b", "a5", "FreeBSD", nil},
		{"freebsd-boot", "83bd6b9d-7f41-11dc-be0b-001560b84f0f", "", "FreeBSD boot", nil},
		{"freebsd-swap", "516e7cb5-6ecf-11d6-8ff8-00022d09712b", "", "FreeBSD swap", nil},
		{"freebsd-ufs", "516e7cb6-6ecf-11d6-8ff8-00022d09712b", "", "FreeBSD UFS", nil},
		{"freebsd-zfs", "516e7cba-6ecf-11d6-8ff8-00022d09712b", "", "FreeBSD ZFS", []string{"ZFS member"}},
		{"openbsd", "824cc7a0-36a8-11e3-890a-952519ad3f61", "a6", "OpenBSD", nil},
		{"netbsd-ffs", "49f48d5a-b10e-11dc-b99b-0019d1879648", "a9", "NetBSD", nil},
	}
}

// Fitting is the type for a partition that holds a kind: the one that has its name, else the
// first that is for such contents and not for firmware, which nobody can tell from a FAT.
func Fitting(kind string, s Scheme) (Type, bool) {
	var first Type
	for _, t := range Types() {
		switch {
		case t.Value(s) == "" || !slices.Contains(t.Holds, kind):
		case strings.EqualFold(t.Name, kind):
			return t, true
		case first.Name == "" && t.Name != "esp" && t.Name != "boot-extra":
			first = t
		}
	}
	return first, first.Name != ""
}

// Value is how the scheme writes the type; empty where it has none.
func (t Type) Value(s Scheme) string {
	if s == MBR {
		return t.Byte
	}
	return t.GUID
}

// known is the type of a short name, of one that it goes by among people, or of the constant that the
// Discoverable Partitions Specification has for it.
func known(word string) (Type, bool) {
	other := map[string]string{
		"efi": "esp", "boot": "boot-extra", "root": "root@x86-64", "usr": "usr@x86-64",
		"sd_gpt_linux_generic": "linux", "sd_gpt_esp": "esp", "sd_gpt_xbootldr": "boot-extra", "sd_gpt_swap": "swap",
		"sd_gpt_home": "/home", "sd_gpt_srv": "/srv", "sd_gpt_var": "/var", "sd_gpt_tmp": "/var/tmp",
		"sd_gpt_user_home": "home-of-user", "sd_gpt_root_x86_64": "root@x86-64", "sd_gpt_root_x86": "root@x86",
		"sd_gpt_root_arm64": "root@arm64", "sd_gpt_root_arm": "root@arm", "sd_gpt_root_riscv64": "root@riscv64",
		"sd_gpt_usr_x86_64": "usr@x86-64", "sd_gpt_usr_arm64": "usr@arm64",
		"sd_gpt_root_x86_64_verity": "verity-of-root@x86-64", "sd_gpt_usr_x86_64_verity": "verity-of-usr@x86-64",
	}
	word = strings.ToLower(word)
	for _, t := range Types() {
		if t.Name == word || t.Name == other[word] {
			return t, true
		}
	}
	return Type{}, false
}

// FindType gives the type that a scheme writes so.
func FindType(s Scheme, value string) (Type, bool) {
	for _, t := range Types() {
		if v := t.Value(s); v != "" && strings.EqualFold(v, value) {
			return t, true
		}
	}
	return Type{}, false
}

// ParseType reads a short name, a GUID or a type byte, and gives what the scheme
// writes. An empty partition's value is none.
func ParseType(s Scheme, word string) (string, error) {
	if t, ok := known(word); ok && t.Value(s) != "" {
		return t.Value(s), nil
	} else if ok {
		return "", fmt.Errorf("%q: %w: %s has no such type; fundus types %s lists what there is", word, ErrType,
			strings.ToUpper(string(s)), word)
	}
	const few = 8
	var names []string
	for _, t := range Types() {
		if t.Value(s) != "" && len(names) < few {
			names = append(names, t.Name)
		}
	}
	if t, ok := ofContent(word); ok {
		return "", fmt.Errorf("%q: %w: that is what a partition holds, and the type for it is %s; the file system itself is made by a step of its own",
			word, ErrType, t.Name)
	}
	if s == MBR {
		if b, ok := typeByte(word); ok {
			return b, nil
		}
		return "", fmt.Errorf("%q: %w: use %s …, or two hexadecimal digits such as 0x83; fundus types lists them all",
			word, ErrType, strings.Join(names, ", "))
	}
	id, err := uuid.Parse(word)
	if err != nil || id == uuid.Nil {
		return "", fmt.Errorf("%q: %w: use %s …, or a GUID; fundus types lists them all", word, ErrType, strings.Join(names, ", "))
	}
	return id.String(), nil
}

// typeByte reads one byte in hexadecimal, with or without 0x.
func typeByte(word string) (string, bool) {
	digits := strings.TrimPrefix(strings.ToLower(word), "0x")
	if len(digits) == 1 {
		digits = "0" + digits
	}
	if len(digits) != 2 || strings.Trim(digits, "0123456789abcdef") != "" || digits == "00" {
		return "", false
	}
	return digits, true
}

// SearchTypes gives the types that every word fits: a part of the name or of the
// meaning, a GUID or its beginning, a type byte.
func SearchTypes(words []string) (out []Type) {
	for _, t := range Types() {
		fits := true
		for _, w := range words {
			w = strings.ToLower(w)
			if same, ok := known(w); ok && same.Name == t.Name {
				continue
			}
			b, isByte := typeByte(w)
			fits = fits &&
				(strings.Contains(t.Name, w) || strings.Contains(strings.ToLower(t.Meaning), w) ||
					len(w) >= 4 && strings.HasPrefix(t.GUID, w) ||
					isByte && t.Byte == b)
		}
		if fits {
			out = append(out, t)
		}
	}
	return out
}

// ofContent is the type that a kind of content goes into: a word for a file system is often
// taken for one. The first that fits is the general one, since the list goes from the
// general to the special.
func ofContent(word string) (Type, bool) {
	for _, t := range Types() {
		if slices.ContainsFunc(t.Holds, func(kind string) bool { return strings.EqualFold(kind, word) }) {
			return t, true
		}
	}
	return Type{}, false
}

// TypeWords is how a type is shown: as the table writes it, with its meaning
// where it has one.
func TypeWords(t *Table, value string) string {
	if t == nil {
		return value
	}
	if known, ok := FindType(t.Scheme, value); ok {
		return value + " (" + known.Name + ": " + known.Meaning + ")"
	}
	return value
}
