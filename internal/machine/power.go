package machine

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Power is what a computer runs on.
type Power struct {
	// Battery says that it has one, Percent how full it is; -1 where that isn't told.
	Battery bool
	Percent int
	// Mains says that mains power is connected; Told that either is known.
	Mains, Told bool
}

// powerOf reads the power supplies (ABI/testing/sysfs-class-power). Batteries of mice and the like aren't the
// computer's.
func powerOf(root string) Power {
	p := Power{Percent: -1}
	dir := filepath.Join(root, "sys/class/power_supply")
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		said := func(file string) string {
			b, _ := os.ReadFile(filepath.Join(dir, e.Name(), file))
			return strings.TrimSpace(string(b))
		}
		switch said("type") {
		case "Mains", "USB":
			p.Told = true
			p.Mains = p.Mains || said("online") == "1"
		case "Battery":
			if said("scope") == "Device" || said("present") == "0" {
				continue
			}
			p.Battery, p.Told = true, true
			if n, err := strconv.Atoi(said("capacity")); err == nil && n >= 0 && n <= 100 {
				p.Percent = n
			}
			if s := said("status"); s == "Charging" || s == "Full" || s == "Not charging" {
				p.Mains = true
			}
		}
	}
	return p
}

// OnBattery says that the computer runs on its battery.
func (p Power) OnBattery() bool { return p.Battery && !p.Mains }

// Warning is what to say before work that takes long; empty where nothing speaks against it.
func (p Power) Warning() string {
	if !p.OnBattery() {
		return ""
	}
	return "this computer runs " + p.Words() + ": connect it to mains power before work that takes long"
}

// Words says what the computer runs on.
func (p Power) Words() string {
	full := ""
	if p.Percent >= 0 {
		full = fmt.Sprintf(", %d %% full", p.Percent)
	}
	switch {
	case p.OnBattery():
		return "on battery" + full
	case p.Battery:
		return "mains (battery" + full + ")"
	case p.Mains:
		return "mains"
	}
	return "mains, as far as can be told"
}
