package drive

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/store/door"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// withKey puts a private key on a stick's data part, where keys are looked for, and gives the public one's file.
func withKey(t *testing.T, img string) string {
	t.Helper()
	key := filepath.Join(t.TempDir(), "id_ed25519")
	testkit.Do(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "stick", "-f", key)
	dev, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	for _, a := range surveyed(t, dev).Areas {
		if a.Part == nil || a.Part.Name != ramdisk.DataName {
			continue
		}
		orders := filepath.Join(t.TempDir(), "orders")
		text := "mkdir twinshelf\nmkdir twinshelf/home\nmkdir twinshelf/home/.ssh\ncd twinshelf/home/.ssh\n" +
			"write " + key + " id_ed25519\nsif id_ed25519 mode 0100600\n"
		if err := os.WriteFile(orders, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "debugfs", "-w", "-f", orders, img+"?offset="+strconv.FormatInt(a.Span.Start, 10))
		return key + ".pub"
	}
	t.Fatal("the stick has no data part")
	return ""
}

// serving serves a folder by a door on this machine to whoever has a key, and gives its port.
func serving(t *testing.T, folder, public string) string {
	t.Helper()
	b, err := os.ReadFile(public)
	if err != nil {
		t.Fatal(err)
	}
	keys := filepath.Join(t.TempDir(), "keys")
	line, err := door.Key{Name: "stick", Right: door.Keep}.Line(string(b))
	if err == nil {
		err = os.WriteFile(keys, []byte(line), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	d, err := door.New(folder, door.NewLog(io.Discard))
	if err != nil {
		t.Fatal(err)
	}
	host, err := door.HostKey(filepath.Join(t.TempDir(), "host"))
	if err != nil {
		t.Fatal(err)
	}
	on, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l, ended := &door.Listener{Door: d, Keys: keys, Host: host}, make(chan struct{})
	go func() { _ = l.Serve(t.Context(), on); close(ended) }()
	t.Cleanup(func() { on.Close(); <-ended })
	_, port, _ := net.SplitHostPort(on.Addr().String())
	return port
}

// network: a machine that was started from a stick joins the network by DHCP, makes a shelf behind a door there, with
// the key that the stick has, and captures its disk onto it.
func network(t *testing.T, img, public string) {
	customer := testkit.Image(t, "customer.img", 64*units.MiB)
	testkit.WriteTable(t, customer, table.Layout{Kind: table.MBR, Sector: 512, ID: "00c0ffee"}, 64*units.MiB)
	for range 4 { // the emulator may fail
		srv := t.TempDir()
		m := start(t, "-machine", "q35", "-smbios", "type=1,manufacturer=Ternworks,product=W2,serial=TW-2291",
			"-device", "qemu-xhci", "-netdev", "user,id=w", "-device", "e1000e,netdev=w",
			"-drive", "if=none,id=u,format=raw,snapshot=on,file="+img, "-device", "usb-storage,drive=u,bootindex=0",
			"-drive", "if=none,id=n,format=raw,snapshot=on,file="+customer, "-device",
			"nvme,drive=n,serial=KK2-55A1940B1")
		if !captured(t, m, serving(t, srv, public)) {
			continue
		}
		s, err := shelf.Open(t.Context(), filepath.Join(srv, "elm"), nil)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		twins, problems := s.Twins(t.Context())
		if len(twins) != 1 || len(problems) > 0 || twins[0].Machine != "Ternworks W2" {
			t.Errorf("%d twins, %v", len(twins), problems)
		}
		return
	}
	t.Fatal("the emulator failed each time")
}

// captured does that over the serial line, and says whether the emulator held out.
func captured(t *testing.T, m *machine, port string) bool {
	t.Helper()
	m.await("THIS MACHINE", "NETWORK")
	m.insists("n", "an address by DHCP", "No wired network card")
	m.types("\r")
	m.await("Shelves far away can be opened")
	m.types("o")
	m.await("a new one")
	m.types("\r")
	m.await("Folder for the new shelf")
	m.types("sftp://desk@10.0.2.2:" + port + "/elm\r")
	m.await("Name of the new shelf")
	m.types("\r")
	m.await("be sealed")
	m.types("\x1b[B\r") // open
	m.await("Is this the right server", "SHA256:")
	m.types("\x1b[B\r") // it is
	m.await("captures go to it")
	m.types("1")
	m.await("QEMU NVMe Ctrl")
	m.types("/0B1\r")
	m.await("1 disk found")
	m.insists("\r", "probably [0-9.]+ MB more", "not looked at yet|being looked at")
	m.insists("\r", "The twin of Ternworks W2 is on the shelf", "still being worked out")
	leaves(m)
	return !m.failed
}

// leaves leaves the full screen on a machine that was started from a stick, and has it switched off.
func leaves(m *machine) {
	m.t.Helper()
	m.types("q")
	m.await("leave the full screen")
	m.types("\x1b[F\r") // to the last choice
	m.await("Twin Shelf was left")
	m.types("off\r")
	m.ends()
}
