package routine

import (
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/zeebo/blake3"
)

// Unit is a file that has an operating system run routines.
type Unit struct {
	Path string
	Text string
}

// Names of the units.
const (
	ServiceUnit = "twinshelf-routines.service"
	TimerUnit   = "twinshelf-routines.timer"
	ruleFile    = "90-twinshelf-routines.rules"

	// importsFrom is the version of systemd from which on it imports credentials by pattern (systemd.exec(5)).
	importsFrom = 254

	made = "# Made by \"twinshelf routine service\". Sum of what follows: "
)

// Places are where the files of systemd and udev lie: those of the machine, or those of a person, who has no rules for
// devices.
type Places struct {
	Units, Rules string
}

// PlacesOf are those of the machine, or of a person with that folder for settings.
func PlacesOf(system bool, config string) Places {
	if system {
		return Places{"/etc/systemd/system", "/etc/udev/rules.d"}
	}
	return Places{Units: filepath.Join(config, "systemd/user")}
}

// Units are the files with which systemd runs what is due: a service that looks once (routine due), a timer that starts
// it every minute, and, for the machine, a rule that starts it when a disk is attached. All calendars stay in the
// routines: a routine that is made or changed needs no other files. version is that of systemd, 0 for an unknown one.
// The home folder is named since services of the system have none in their environment, and keys to far shelves lie
// there.
func Units(at Places, program, state string, version int) []Unit {
	imports := ""
	if version >= importsFrom {
		imports = "ImportCredential=twinshelf.*\n"
	}
	service := fmt.Sprintf(`[Unit]
Description=Twin Shelf: routines that are due

[Service]
Type=oneshot
Environment=%s
Environment=HOME=%%h
ExecStart=%s routine due --quiet
Nice=10
IOSchedulingClass=idle
TimeoutStopSec=90
%s`, quoted("XDG_STATE_HOME="+state), quoted(program), imports)
	timer := `[Unit]
Description=Twin Shelf: look every minute which routines are due

[Timer]
OnCalendar=minutely
AccuracySec=20s

[Install]
WantedBy=timers.target
`
	out := []Unit{{filepath.Join(at.Units, ServiceUnit), signed(service)}, {filepath.Join(at.Units, TimerUnit),
		signed(timer)}}
	if at.Rules != "" {
		out = append(out, Unit{filepath.Join(at.Rules, ruleFile), signed(
			`ACTION=="add", SUBSYSTEM=="block", ENV{DEVTYPE}=="disk", TAG+="systemd", ENV{SYSTEMD_WANTS}+="` +
				ServiceUnit +
				"\"\n")})
	}
	return out
}

// quoted is a word as systemd reads it (systemd.syntax(7), "Quoting"). Variables are put in neither where the
// environment is set nor in the path of a program.
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `%`, `%%`, "\n", " ").Replace(s) + `"`
}

// signed is a text with a sum of itself before it.
func signed(text string) string { return made + sum(text) + "\n" + text }

func sum(text string) string {
	h := blake3.Sum256([]byte(text))
	return hex.EncodeToString(h[:16])
}

// Ours says whether a file is one that was made here and that nobody changed since.
func Ours(text string) bool {
	head, rest, ok := strings.Cut(text, "\n")
	return ok && head == made+sum(rest)
}
