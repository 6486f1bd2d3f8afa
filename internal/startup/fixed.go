package startup

import (
	"context"
	"io/fs"
	"path"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/startup/image"
	"twinshelf/internal/startup/realmode"
)

// Fixed are texts on a disk that name parts by their identities and can't be changed: scripts inside loaders, which are
// packed or signed, and the command lines in unified kernels. What they name has to keep its identity. The error is of
// the table or a context.
func Fixed(ctx context.Context, d disk.Device) ([]string, error) {
	c, err := newChecker(ctx, d, Options{})
	if err != nil || c == nil {
		return nil, err
	}
	out := c.inCore()
	for i := range c.parts {
		p := &c.parts[i]
		if _, readable := p.volume.(fsys.FirmwareRead); p.files == nil || !readable {
			continue
		}
		for _, name := range programs(p.files) {
			out = append(out, c.inProgram(p, name)...)
		}
	}
	return out, ctx.Err()
}

// inCore is the script in the second stage that the first sector loads.
func (c *checker) inCore() []string {
	first := make([]byte, biosSector)
	if disk.ReadFull(c.d, first, 0) != nil {
		return nil
	}
	m := realmode.New(first, c.biosWay.sectors)
	j, err := m.Run(c.ctx)
	if err == nil && !c.biosWay.isSecond(j) { // of an active part, perhaps
		j, err = m.Run(c.ctx)
	}
	if err != nil || !c.biosWay.isSecond(j) {
		return nil
	}
	if _, err := m.Run(c.ctx); err != nil {
		return nil
	}
	g, err := image.Core(m.Loaded(j.Address))
	if err != nil {
		return nil
	}
	return []string{g.Config, string(g.Memdisk)}
}

func (c *checker) inProgram(p *part, name string) []string {
	program, err := c.loader(p, name)
	if err != nil {
		return nil
	}
	out := []string{string(program.Section(".cmdline"))}
	if g, err := image.GrubOf(program); err == nil && g != nil {
		out = append(out, g.Config, string(g.Memdisk))
	}
	return out
}

// programs are the EFI programs on a part.
func programs(files fs.FS) []string {
	const deepest = 4
	var out []string
	_ = fs.WalkDir(files, ".", func(name string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return nil
		case e.IsDir() && strings.Count(name, "/") >= deepest:
			return fs.SkipDir
		case len(out) >= maxListed:
			return fs.SkipAll
		case strings.EqualFold(path.Ext(name), ".efi"):
			out = append(out, name)
		}
		return nil
	})
	return out
}

// Told reads what a disk's configuration files name in the places where those of another one with the same layout name
// old: what identities of other disks have become. Only what is the same in all places counts.
func Told(ctx context.Context, planned, target disk.Device, old []string) (map[string]string, error) {
	out := map[string]string{}
	for _, id := range old {
		if len(id) < leastIdentity {
			continue
		}
		refs, err := Rewrite(ctx, planned, map[string]string{id: strings.Repeat("\x00", len(id))})
		if err != nil {
			return nil, err
		}
		now := ""
		for _, p := range refs.Patches {
			b := make([]byte, len(id))
			if len(p.Bytes()) != len(id) || disk.ReadFull(target, b, p.Off) != nil || now != "" &&
				!strings.EqualFold(now, string(b)) {
				now = ""
				break
			}
			now = string(b)
		}
		if now != "" && !strings.EqualFold(now, id) && identityText(now) {
			out[id] = strings.ToLower(now)
			if id == strings.ToUpper(id) {
				out[id] = strings.ToUpper(now)
			}
		}
	}
	return out, nil
}

// leastIdentity is how long an identity is at least that is searched for: shorter ones are found anywhere.
const leastIdentity = 9

func identityText(s string) bool { return strings.Trim(strings.ToLower(s), "0123456789abcdef-") == "" }
