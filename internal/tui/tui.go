package tui

import (
	"context"
	"errors"

	"twinshelf/internal/workshop"
)

func Run(context.Context, *workshop.Workshop) error { return errors.New("x") }
