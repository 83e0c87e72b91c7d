package cli

import (
	"context"
	"errors"

	"hodstone/internal/trial"
)

// restarter asks a person to restart the broker; nil where nobody is there.
func (e *Env) restarter(f *proveFlags) (func(context.Context, bool) error, error) {
	ask, err := e.asking(f)
	if err != nil || ask == nil {
		return nil, err
	}
	return func(ctx context.Context, killed bool) error {
		text := "Restart the broker in order, and answer once it is back"
		if killed {
			text = "Kill the broker (SIGKILL, or its power), start it again, and answer once it is back"
		}
		a, err := ask(ctx, trial.Question{Trial: "what survives a restart", Text: text})
		switch {
		case err != nil:
			return err
		case a.Left != "":
			return errors.New("left out, because " + a.Left)
		case !a.Yes:
			return errors.New("it was not done")
		}
		return nil
	}, nil
}
