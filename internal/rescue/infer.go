package rescue

import (
	"context"

	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
)

// surveyOf looks at a disk of a twin as the sitting that made it did.
func surveyOf(ctx context.Context, base *shelf.Disk, t *shelf.Twin, i int) (*survey.Survey, error) {
	if t.Disks[i].Table == nil {
		return survey.Divided(ctx, base)
	}
	return survey.Of(ctx, base, nil)
}
