package startup

import (
	"bytes"
	"encoding/hex"
	"fmt"
)

// bootSectors are what the boot sectors of parts look for in their file system, by the name that stands in them.
var bootSectors = []struct {
	mark, title string
	files       []string
}{
	{"BOOTMGR", "Windows", []string{"bootmgr", "Boot/BCD"}},
	{"NTLDR", "Windows", []string{"ntldr", "ntdetect.com", "boot.ini"}},
	{"IO      SYS", "DOS", []string{"io.sys", "command.com"}},
	{"KERNEL  SYS", "DOS", []string{"kernel.sys", "command.com"}},
}

// bootSector looks for what the boot sector of a part starts.
func (c *biosWay) bootSector(p *part, b []byte) {
	for _, s := range bootSectors {
		if !bytes.Contains(b, []byte(s.mark)) {
			continue
		}
		for _, name := range s.files {
			if _, err := p.resolve(name); err != nil {
				c.add(Finding{Way: BIOS, Verdict: Bad,
					Says:     fmt.Sprintf("%s on part %d starts from %s, which isn't there", s.title, p.Number, name),
					Evidence: err.Error()})
				return
			}
		}
		if s.mark == "BOOTMGR" {
			c.windowsData(p)
			return
		}
		c.add(Finding{Way: BIOS, Verdict: Good,
			Says: fmt.Sprintf("what %s on part %d starts from is there", s.title, p.Number), Evidence: s.files[0]})
		return
	}
	c.add(Finding{Way: BIOS, Verdict: Doubt,
		Says: fmt.Sprintf("what the boot sector of part %d starts can't be told", p.Number)})
}

// windowsData looks whether the boot manager's data name this disk.
func (c *checker) windowsData(p *part) {
	c.followed = true
	data, err := p.read("Boot/BCD", maxBCD)
	if err == nil {
		err = hive(data)
	}
	if err != nil {
		c.add(Finding{Way: BIOS, Verdict: Bad,
			Says:     fmt.Sprintf("Windows' boot manager on part %d can't use its data, Boot/BCD", p.Number),
			Evidence: err.Error()})
		return
	}
	id, err := hex.DecodeString(c.t.ID)
	for i, k := 0, len(id)-1; i < k; i, k = i+1, k-1 {
		id[i], id[k] = id[k], id[i] // as it stands on the disk
	}
	for i := range c.parts {
		if _, missing := c.parts[i].resolve(winload + ".exe"); missing != nil {
			continue
		}
		f := Finding{Way: BIOS, Verdict: Good,
			Says: fmt.Sprintf("the boot manager's data name this disk, and the Windows on part %d has a loader",
				c.parts[i].Number), Evidence: "identity " + c.t.ID}
		if err != nil || len(id) == 0 || !bytes.Contains(data, id) {
			f.Verdict, f.Says = Doubt,
				fmt.Sprintf("the boot manager's data don't name this disk by its identity, %s", c.t.ID)
		}
		c.add(f)
		return
	}
	verdict, says := Bad, "no part holds the Windows that the boot manager starts"
	if c.unread() {
		verdict, says = Doubt, "the Windows that the boot manager starts may be on something that isn't read here"
	}
	c.add(Finding{Way: BIOS, Verdict: verdict, Says: says})
}
