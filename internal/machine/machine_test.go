package machine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func files(t *testing.T, root string, all map[string]string) {
	t.Helper()
	for name, text := range all {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// TestLook: what the firmware tells is read, and what its maker never filled in is nothing.
func TestLook(t *testing.T) {
	root := t.TempDir()
	const dmi = "sys/class/dmi/id/"
	files(t, root, map[string]string{dmi + "sys_vendor": "Ternworks \n", dmi + "product_name": "W2 \x1b[31m",
		dmi + "product_serial": "Default string\n", dmi + "bios_version": "2.14\n", dmi + "bios_date": "03/07/2024\n",
		"proc/bus/input/devices": "N: Name=\"Power Button\"\nH: Handlers=kbd event0 \nB: KEY=10000000000000 0\n\n" +
			"N: Name=\"AT keyboard\"\nH: Handlers=sysrq kbd event1 leds \n" +
			"B: KEY=402000000 3803078f800d001 feffffdfffefffff fffffffffffffffe\n"})
	m := Look(root)
	if m.Maker != "Ternworks" || m.Serial != "" || !strings.HasPrefix(m.Model, "W2") || strings.Contains(m.Model,
		"\x1b") ||
		m.Firmware != "2.14" || m.Dated != "7 Mar 2024" || !m.Keyboard || m.Memory < 1<<27 {
		t.Errorf("%+v", m)
	}
	if !strings.HasPrefix(m.Name(), "Ternworks W2") {
		t.Errorf("it is called %q", m.Name())
	}
	files(t, root, map[string]string{"proc/bus/input/devices": "N: Name=\"Power Button\"\nH: Handlers=kbd event0 \n" +
		"B: KEY=10000000000000 0\n"})
	if Look(root).Keyboard {
		t.Error("a button is taken for a keyboard")
	}
	if empty := Look(t.TempDir()); empty.Name() != "" || empty.Keyboard || empty.Power.OnBattery() {
		t.Errorf("%+v", empty)
	}
}

func TestPower(t *testing.T) {
	const dir = "sys/class/power_supply/"
	for want, all := range map[string]map[string]string{
		"mains, as far as can be told": nil,
		"mains":                        {dir + "AC/type": "Mains", dir + "AC/online": "1"},
		"on battery, 41 % full": {dir + "AC/type": "Mains", dir + "AC/online": "0", dir + "BAT0/type": "Battery",
			dir + "BAT0/capacity": "41", dir + "BAT0/status": "Discharging"},
		"mains (battery, 80 % full)": {dir + "BAT0/type": "Battery", dir + "BAT0/capacity": "80",
			dir + "BAT0/status": "Charging"},
		"mains, as far as can be told ": {dir + "mouse/type": "Battery", dir + "mouse/scope": "Device"},
	} {
		root := t.TempDir()
		files(t, root, all)
		if got := powerOf(root); got.Words() != strings.TrimSpace(want) ||
			got.OnBattery() != strings.HasPrefix(want, "on battery") {
			t.Errorf("%+v: %q instead of %q", got, got.Words(), want)
		}
	}
}

func TestParseMoment(t *testing.T) {
	want := time.Date(2026, 11, 29, 14, 5, 0, 0, time.UTC)
	for _, text := range []string{"2026-11-29 14:05", " 29.11.2026  14:05 ", "29 Nov 2026 14:05"} {
		if got, err := ParseMoment(text); err != nil || !got.Equal(want) {
			t.Errorf("%q: %v, %v", text, got, err)
		}
	}
	if _, err := ParseMoment("noon"); err == nil || !strings.Contains(err.Error(), "2026-11-29 14:05") {
		t.Errorf("noon: %v", err)
	}
}
