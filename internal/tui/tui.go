package tui

import (
	"context"

	"hodstone/internal/workbench"
)

func Run(context.Context, *workbench.Bench) error { return nil }
