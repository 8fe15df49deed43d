package fs

import "testing"

// TestMountsAs: a line may leave the type open, name several, or the driver that it wants.
func TestMountsAs(t *testing.T) {
	ntfs, disc, swap := Content{Kind: "ntfs", Types: []string{"ntfs3", "ntfs"}, Class: FileSystem}, Content{Kind: "iso9660", Class: FileSystem}, Content{Kind: "swap", Class: Swap}
	for _, c := range []struct {
		content Content
		typ     string
		want    bool
	}{
		{ntfs, "ntfs3", true}, {ntfs, "ntfs", true}, {ntfs, "ntfs-fern", true}, {ntfs, "ntfs3fern", false}, {ntfs, "auto", true}, {ntfs, "", true}, {ntfs, "ext4", false},
		{disc, "udf,iso9660", true}, {disc, "udf", false}, {swap, "swap", true}, {swap, "auto", false}, {swap, "", false},
	} {
		if got := c.content.MountsAs(c.typ); got != c.want {
			t.Errorf("%s as %q: %v", c.content.Kind, c.typ, got)
		}
	}
}
