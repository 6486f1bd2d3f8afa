package script

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"testing"
)

// stand is a machine whose files are given by (device)/path.
type stand struct {
	files   map[string]string
	devices map[string]string // by what is searched for
	without string            // a command that the loader doesn't know
}

func (s stand) Read(device, name string) ([]byte, error) {
	if device == "hd1,gpt1" {
		return nil, ErrUnread
	}
	b, ok := s.files["("+device+")"+name]
	if !ok {
		for other := range s.files {
			if strings.HasPrefix(other, "("+device+")"+name+"/") {
				return nil, errors.New("it is a folder")
			}
		}
		return nil, fs.ErrNotExist
	}
	return []byte(b), nil
}

func (s stand) Search(by, value string) (string, bool) {
	d, ok := s.devices[value]
	return d, ok
}

func (s stand) Command(name, prefix string) bool { return name != s.without }

// distribution is the shape that menus have which a system writes for itself.
const distribution = `# made by a system
if [ -s $prefix/grubenv ]; then
  set have_grubenv=true
  load_env
fi
if [ "${next_entry}" ] ; then
   set default="${next_entry}"
   set next_entry=
   save_env next_entry
else
   set default="0"
fi
if [ x"${feature_menuentry_id}" = xy ]; then
  menuentry_id_option="--id"
fi
export menuentry_id_option
function load_video {
  if [ x$feature_all_video_module = xy ]; then
    insmod all_video
  else
    insmod efi_gop
  fi
}
font=unicode
if loadfont $font ; then
  set gfxmode=auto
fi
terminal_output gfxterm
if [ "${recordfail}" = 1 ] ; then set timeout=30 ; else set timeout=5 ; fi
for x in a b; do echo $x; done
menuentry 'Kiosk' --class gnu $menuentry_id_option 'simple-kiosk' {
	load_video
	insmod ext2
	if [ x$feature_platform_search_hint = xy ]; then
	  search --no-floppy --fs-uuid --set=root --hint-bios=hd9,gpt9 --hint-efi=hd9,gpt9  ROOT
	else
	  search --no-floppy --fs-uuid --set=root ROOT
	fi
	echo	'Loading Linux …'
	linux	/boot/vmlinuz-6 root=UUID=ROOT ro  quiet
	initrd	/boot/microcode.img /boot/initrd.img-6
}
submenu 'More' $menuentry_id_option 'more' {
	menuentry 'Kiosk, older' --class gnu $menuentry_id_option 'older' {
		search --no-floppy --fs-uuid --set=root ROOT
		linux /boot/vmlinuz-5 root=UUID=ROOT single
		initrd /boot/initrd.img-5
	}
}
if [ -f  ${config_directory}/custom.cfg ]; then
  source ${config_directory}/custom.cfg
fi
`

func kiosk(more map[string]string) stand {
	s := stand{files: map[string]string{"(hd0,gpt2)/boot/grub/grub.cfg": distribution,
		"(hd0,gpt1)/EFI/kiosk/grub.cfg": stub}, devices: map[string]string{"ROOT": "hd0,gpt2"}}
	for name, text := range more {
		if s.files[name] = text; text == "" {
			delete(s.files, name)
		}
	}
	return s
}

const stub = "search.fs_uuid ROOT root hd0,gpt2\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"

func TestRun(t *testing.T) {
	efi := Options{Prefix: "/EFI/kiosk", Loaded: Place{"hd0,gpt1", "/EFI/BOOT/BOOTX64.EFI"}, Platform: "efi"}
	inner := func(config string) Options { return Options{Config: config, Prefix: "/boot/grub", Loaded: efi.Loaded} }
	specs := func(string) []Spec { return []Spec{{ID: "k-6", Title: "K", Script: "linux /k\ninitrd /i\n"}} }
	for name, c := range map[string]struct {
		s     stand
		o     Options
		want  string // kernel, arguments, initrds
		fails string
		sure  bool
	}{
		"a stub leads to the menu": {kiosk(nil), efi,
			"(hd0,gpt2)/boot/vmlinuz-6 root=UUID=ROOT ro quiet [(hd0,gpt2)/boot/microcode.img " +
				"(hd0,gpt2)/boot/initrd.img-6]", "", true},
		"a saved entry within a submenu": {
			kiosk(map[string]string{"(hd0,gpt2)/boot/grub/grubenv": "# GRUB Environment " +
				"Block\nnext_entry=more>older\n####"}), efi,
			"(hd0,gpt2)/boot/vmlinuz-5 root=UUID=ROOT single [(hd0,gpt2)/boot/initrd.img-5]", "", true},
		"a wrong identity in the stub": {
			kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": strings.ReplaceAll(stub, "ROOT", "GONE")}), efi,
			"", "looks for uuid GONE", true},
		"no stub": {kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": ""}), efi, "",
			"(hd0,gpt1)/EFI/kiosk/grub.cfg, isn't there", true},
		"no menu": {kiosk(map[string]string{"(hd0,gpt2)/boot/grub/grub.cfg": ""}), efi, "",
			"grub.cfg, isn't there", true},
		"a menu elsewhere": {stand{files: map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": stub},
			devices: map[string]string{"ROOT": "hd1,gpt1"}}, efi, "", "nothing can be read here", false},
		"a script in the loader": {kiosk(nil),
			inner("search --no-floppy --fs-uuid --set=root ROOT\nconfigfile /boot/grub/grub.cfg\n"),
			"(hd0,gpt2)/boot/vmlinuz-6 root=UUID=ROOT ro quiet [(hd0,gpt2)/boot/microcode.img " +
				"(hd0,gpt2)/boot/initrd.img-6]", "", true},
		"commands without a menu": {
			kiosk(map[string]string{"(hd0,gpt1)/boot/grub/grub.cfg": "linux (hd0,gpt2)/k a=1\ninitrd /i\nboot\nlinux " +
				"/other\n"}), inner("set x=1"), "(hd0,gpt2)/k a=1 [(hd0,gpt1)/i]", "", true},
		"a search that was only asked": {
			kiosk(map[string]string{"(hd0,gpt1)/boot/grub/grub.cfg": "if ! search --file --set=root /no; then linux " +
				"/k\nfi\n"}), inner("set x=1"), "(hd0,gpt1)/k  []", "", true},
		"a loader without its module": {stand{files: kiosk(nil).files, devices: kiosk(nil).devices,
			without: "linux"}, efi, "", "linux.mod", true},
		"entries of the specification": {
			kiosk(map[string]string{"(hd0,gpt1)/boot/grub/grub.cfg": "set default=k-6\nblscfg\n"}),
			Options{Prefix: "/boot/grub", Loaded: efi.Loaded, Entries: specs}, "(hd0,gpt1)/k  [(hd0,gpt1)/i]",
			"", true},
		"a quote that isn't closed": {
			kiosk(map[string]string{"(hd0,gpt2)/boot/grub/grub.cfg": "menuentry 'x {\n"}), efi, "", "quote", true},
		"a menu that calls itself": {
			kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": "source $prefix/grub.cfg\n"}), efi, "",
			"without end", true},
		"an if that isn't closed": {
			kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": "if true; then linux /k\n"}), efi, "",
			"isn't closed", true},
		"another kind of kernel": {
			kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": "menuentry x { multiboot /k\n}\n"}), efi, "",
			"something else", false},
		"an entry that starts nothing": {
			kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": "menuentry x { echo hello\n}\n"}), efi, "",
			"starts nothing", true},
		"an entry after what can't be " +
			"told": {kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": "if sleep 3; then menuentry x { " +
			"true\n}\nfi\n"}), efi, "", "starts nothing", false},
	} {
		b, err := Run(context.Background(), c.s, c.o)
		var f *Fault
		switch {
		case c.fails == "" && err != nil:
			t.Errorf("%s: %v", name, err)
		case c.fails == "":
			var places []string
			for _, p := range b.Initrds {
				places = append(places, p.String())
			}
			if got := b.Kernel.String() + " " + b.Args + " [" + strings.Join(places, " ") + "]"; got != c.want {
				t.Errorf("%s: %s", name, got)
			}
		case !errors.As(err, &f) || !strings.Contains(f.Why, c.fails) || f.Unsure == c.sure:
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzRun(f *testing.F) {
	f.Add(distribution)
	f.Add(stub)
	f.Add("submenu x { submenu y { if [ -e (memdisk)/a -o ! x = y ]; then chainloader +1; fi } }\nfunction f { f; }\nf")
	f.Fuzz(func(t *testing.T, text string) {
		s := kiosk(map[string]string{"(hd0,gpt1)/EFI/kiosk/grub.cfg": text})
		b, err := Run(context.Background(), s, Options{Prefix: "/EFI/kiosk", Loaded: Place{"hd0,gpt1", "/"}})
		if err == nil && b.Kernel.Path == "" && b.Chained.Path == "" {
			t.Error("neither started nor failed")
		}
	})
}
