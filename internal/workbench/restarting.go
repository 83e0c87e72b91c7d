package workbench

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"hodstone/internal/workspace"
)

// commandWithin bounds a command that restarts a broker.
const commandWithin = time.Minute

// restarter restarts a broker: a stand-in by itself, another by the workspace's command; nil where nobody can.
func (b *Bench) restarter(br *workspace.Broker) func(ctx context.Context, killed bool) error {
	if s := b.StandIn(br.Name); s != nil {
		return func(ctx context.Context, killed bool) error {
			s.Restart(ctx, restartFor, killed)
			return nil
		}
	}
	if br.Restart == nil && br.Kill == nil {
		return nil
	}
	folder := filepath.Dir(b.Workspace().File)
	return func(ctx context.Context, killed bool) error {
		words := br.Restart
		if killed {
			words = br.Kill
		}
		if len(words) == 0 {
			return fmt.Errorf("broker %s has no command for it", br.Name)
		}
		ctx, cancel := context.WithTimeout(ctx, commandWithin)
		defer cancel()
		c := exec.CommandContext(ctx, words[0], words[1:]...)
		c.Dir = folder
		out, err := c.CombinedOutput()
		if err != nil {
			text := strings.TrimSpace(string(out))
			if len(text) > 200 {
				text = text[:200] + "…"
			}
			return fmt.Errorf("%q: %w; it says %q", strings.Join(words, " "), err, text)
		}
		return nil
	}
}
