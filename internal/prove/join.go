package prove

import (
	"twinshelf/internal/shelf"
)

// Join puts the claims of another proof after those of the first.
func Join(all, one *shelf.Proof, name string) *shelf.Proof {
	if all == nil {
		all = &shelf.Proof{Twin: one.Twin, Tool: one.Tool}
	} else {
		all.Of += "; "
	}
	all.Of += one.Of
	all.When = one.When
	all.Read += one.Read
	all.Meanwhile += one.Meanwhile
	for _, c := range one.Claims {
		c.About = name + c.About
		all.Claims = append(all.Claims, c)
	}
	return all
}
