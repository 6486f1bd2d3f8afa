package startup

import (
	"errors"
	"fmt"
	"io/fs"

	"twinshelf/internal/fsys"
	"twinshelf/internal/startup/image"
)

// macs looks at what a Mac's own firmware starts: the loaders that file systems of Macs name themselves. What such a
// loader starts isn't followed.
func (c *checker) macs() {
	for i := range c.parts {
		p := &c.parts[i]
		m, ok := p.volume.(fsys.MacStart)
		if !ok {
			continue
		}
		loaders, err := m.Blessed()
		if err != nil {
			c.add(Finding{Way: Mac, Verdict: Doubt, Says: "what is blessed in " + p.where() + " can't be read",
				Evidence: err.Error()})
		}
		for _, l := range loaders {
			c.blessed(p, l)
		}
	}
}

// blessed looks at a loader that a volume names.
func (c *checker) blessed(p *part, loader string) {
	show := fmt.Sprintf("%s in %s", loader, p.where())
	if p.files == nil {
		c.add(Finding{Way: Mac, Verdict: Doubt, Says: show + " is blessed, and files there can't be read"})
		return
	}
	b, err := p.read(loader, maxLoader)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.add(Finding{Way: Mac, Verdict: Bad, Says: "the blessed loader, " + show + ", isn't there"})
		return
	case err != nil:
		c.add(Finding{Way: Mac, Verdict: Bad, Says: "the blessed loader, " + show + ", can't be read",
			Evidence: err.Error()})
		return
	}
	if _, err := image.Parse(b); err != nil { // older Macs start others
		c.add(Finding{Way: Mac, Verdict: Doubt, Says: "whether a Mac starts from the blessed loader " + show +
			" can't be told", Evidence: err.Error()})
		return
	}
	c.add(Finding{Way: Mac, Verdict: Good, Says: "a Mac's own firmware looks for the blessed loader " + show +
		": it is there, and an EFI program"})
	c.add(Finding{Way: Mac, Verdict: Doubt, Says: "what that loader starts isn't followed here"})
}
