package restore_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/capture"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// TestFreshIdentity: a copy gets identities of its own, the operating system's tools see them, files refer to them, and
// what can't be changed is named.
func TestFreshIdentity(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.fat", "mkntfs", "mkswap", "mkfs.exfat", "blkid", "debugfs", "mcopy", "mtype")
	const guid = "7A5E0F10-3B1C-4D5A-9C00-00000000F"
	uuid := func(n int) string { return fmt.Sprintf("5d1c7a10-0000-4000-8000-00000000f00%d", n) }
	dir := t.TempDir()
	os.Mkdir(filepath.Join(dir, "etc"), 0o755)
	fstab := "UUID=" + uuid(1) + " / ext4 defaults 0 1\nUUID=" + uuid(2) + " /srv ext4 defaults 0 2\nUUID=" + uuid(3) +
		" none swap sw 0 0\nPARTUUID=" + strings.ToLower(guid) + "106 /boot/efi vfat defaults 0 1\n"
	os.WriteFile(filepath.Join(dir, "etc/fstab"), []byte(fstab), 0o644)
	var parts []table.Part
	images := map[int]string{}
	at := int64(miB)
	add := func(kind string, n int64, tool string, args ...string) {
		i := len(parts) + 1
		img := testkit.Image(t, fmt.Sprint("part", i), n)
		testkit.Do(t, tool, append(args, img)...)
		parts = append(parts,
			table.Part{Number: i, Span: span.At(at, n), Type: kind, GUID: fmt.Sprintf("%s10%d", guid, i)})
		images[i], at = img, at+n
	}
	add(table.TypeLinuxData, 40*miB, "mkfs.ext4", "-q", "-O", "metadata_csum_seed", "-U", uuid(1), "-d", dir)
	add(table.TypeLinuxData, 40*miB, "mkfs.ext4", "-q", "-O", "metadata_csum,^metadata_csum_seed", "-U", uuid(2))
	add(table.TypeLinuxSwap, 10*miB, "mkswap", "-U", uuid(3))
	add(table.TypeMSBasicData, 30*miB, "mkntfs", "-q", "-F", "-f")
	add(table.TypeLinuxData, 20*miB, "mkfs.ext4", "-q", "-b", "1024", "-O", "^metadata_csum,uninit_bg", "-U", uuid(5))
	add(table.TypeESP, 40*miB, "mkfs.fat", "-F", "32", "-s", "1")
	add(table.TypeMSBasicData, 10*miB, "mkfs.exfat")
	cfg := filepath.Join(t.TempDir(), "grub.cfg")
	os.WriteFile(cfg, []byte("search --no-floppy --fs-uuid --set=root "+uuid(1)+"\n"), 0o644)
	testkit.Do(t, "mmd", "-i", images[6], "::EFI", "::EFI/kiosk")
	testkit.Do(t, "mcopy", "-i", images[6], cfg, "::EFI/kiosk/grub.cfg")
	source := testkit.Image(t, "source.img", 200*miB)
	testkit.WriteTable(t, source, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "100", Parts: parts}, 200*miB)
	for i, img := range images {
		testkit.Place(t, img, source, parts[i-1].Span.Start)
	}
	d := opened(t, source)
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	wish := kept()
	wish.Fresh = true
	target := testkit.Image(t, "target.img", 220*miB)
	proof, p, err := written(t, sv.Mapped(), capture.Describe(sv), target, wish)
	if err != nil {
		t.Fatal(err)
	}
	if !proof.Holds() {
		t.Errorf("%+v", proof.Claims)
	}
	now := opened(t, target)
	tab, err := table.Read(now, now.Size(), 512)
	if err != nil || tab.Worst() != "" || strings.HasPrefix(tab.ID, guid) {
		t.Fatalf("%v %+v", err, tab)
	}
	id := func(img string) string {
		out, _ := testkit.Try("blkid", "-p", "-o", "value", "-s", "UUID", img)
		return strings.TrimSpace(out)
	}
	ids := map[int]string{}
	for i, x := range tab.Parts {
		part := testkit.Extract(t, target, x.Span.Start, x.Span.Len())
		was := id(images[i+1])
		ids[i+1] = id(part)
		if (ids[i+1] == was) != (i+1 == 2) || ids[i+1] == "" || x.GUID == parts[i].GUID {
			t.Errorf("part %d was %s and is %s, its GUID %s", i+1, was, ids[i+1], x.GUID)
		}
		switch i + 1 {
		case 1, 2, 5:
			testkit.Do(t, "e2fsck", "-fn", part)
		case 4:
			testkit.Do(t, "ntfsfix", "-n", part)
		case 6:
			testkit.Do(t, "fsck.fat", "-n", part)
		case 7:
			testkit.Do(t, "fsck.exfat", "-n", part)
		}
		if i == 0 {
			text := testkit.Do(t, "debugfs", "-R", "cat /etc/fstab", part)
			for _, old := range []string{uuid(1), uuid(3), strings.ToLower(guid) + "106"} {
				if strings.Contains(text, old) {
					t.Errorf("fstab still refers to %s:\n%s", old, text)
				}
			}
			if !strings.Contains(text, "UUID="+ids[1]+" / ") || !strings.Contains(text, uuid(2)) ||
				!strings.Contains(text, "PARTUUID="+strings.ToLower(tab.Parts[5].GUID)) {
				t.Errorf("fstab is\n%s", text)
			}
		}
		if i == 5 && !strings.Contains(testkit.Do(t, "mtype", "-i", part, "::EFI/kiosk/grub.cfg"), ids[1]) {
			t.Error("grub.cfg doesn't refer to the new root")
		}
	}
	if p.Renewed()[uuid(1)] != ids[1] {
		t.Errorf("%v", p.Renewed())
	}
	// The same plan again proves the target, and the source still is what it was.
	made := rehearsed(t, sv.Mapped(), now, wish)
	var again *shelf.Proof
	if err := testkit.Run(t, func(rc *run.Context) (err error) {
		again, err = prove.Target(rc, capture.Describe(sv), made, now, "test")
		return err
	}); err != nil || !again.Holds() {
		t.Errorf("%v %+v", err, again)
	}
}
