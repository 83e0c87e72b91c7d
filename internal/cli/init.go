package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"hodstone/internal/plain"
)

// starter is a small workspace to start from.
const starter = `# A workspace: brokers, logins, the contract, devices. 'hodstone .' opens it;
# 'hodstone contract check .' tells what is wrong. docs/workspace.md lists every key.
hodstone: 1
name: my site

brokers:
  here:                               # a small broker inside Hodstone, to begin with
    stand-in: {listeners: {tcp: "127.0.0.1:0"}}
  # site:                             # a real one
  #   listeners: {main: {url: "mqtts://broker.site.example:8883"}}
  #   login: bench

# logins:
#   bench: {username: bench, password: {env: BENCH_PASSWORD}}    # never the password itself

contract:                             # who says what, where and how
  parties:
    pump: {note: the controller of a pump}
    desk: {note: where people look}
  parameters:
    pump: {values: ["1", "2"], note: a pump}
  clauses:
    pump.flow:
      topic: mysite/pump/{pump}/flow
      from: pump
      to: desk
      qos: 0
      retain: false
      every: 5s ± 2s
      payload:
        format: json
        schema:
          type: object
          required: [litres]
          properties:
            litres: {type: number, minimum: 0, maximum: 500, unit: l/min}
      note: what the pump moves
    pump.status:
      topic: mysite/pump/{pump}/status
      from: pump
      to: desk
      qos: 1
      retain: true
      presence: {coming: "on", leaving: "off", lost: lost}       # lost is the will
      payload: {format: text, values: {"on": in service, "off": stopped on purpose, lost: link gone}}

devices:                              # play those that are not there yet
  pump:
    count: 2                          # pump-1, pump-2
    plays: pump
    parameters: {pump: "{n}"}
    presence: pump.status
    signals:
      flow: {wave: sine, mean: 220, swing: 40, period: 1m, noise: 3, unit: l/min}
    publishes:
      - {clause: pump.flow, every: 5s, payload: {litres: "= round(flow, 1)"}}
`

func (e *Env) initialise() *cobra.Command {
	return &cobra.Command{
		Use:   "init [DIR]",
		Short: "Write a small commented workspace to start from",
		Long:  "Write a small commented workspace, hodstone.yaml, into a folder; the current one without DIR.\nWhat is there is not overwritten.",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := "."
			if len(args) > 0 {
				dir = args[0]
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return &exit{exitUsage, err}
			}
			name := filepath.Join(dir, "hodstone.yaml")
			if err := writeNew(name, starter); err != nil {
				return err
			}
			_, err := plain.Fprintf(e.Out, "%s: open it with 'hodstone %s'\n", name, dir)
			return broken(err)
		},
	}
}
