package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/pflag"

	"hodstone/internal/plain"
)

// startAfter is how long an engine has to start all parts, where nobody says when they begin.
const startAfter = 3 * time.Minute

// notOfParts are the options that a part has not, or has its own.
var notOfParts = []string{"write", "image", "shard", "start-at", "out", "csv", "drawing", "over", "json", "metrics"}

// partArgs are the words of the command that runs a part, without which one it is.
func (f *loadFlags) partArgs(args []string, start time.Time) (out []string) {
	out = append(out, "load")
	out = append(out, args...)
	f.visit(func(x *pflag.Flag) {
		if slices.Contains(notOfParts, x.Name) {
			return
		}
		if list, is := x.Value.(pflag.SliceValue); is {
			for _, v := range list.GetSlice() {
				out = append(out, "--"+x.Name+"="+v)
			}
			return
		}
		out = append(out, "--"+x.Name+"="+x.Value.String())
	})
	return append(out, "--start-at="+start.UTC().Format(time.RFC3339))
}

// writeEngine prints the file by which an engine runs the parts of a load.
func (e *Env) writeEngine(f *loadFlags, args []string) error {
	_, count, ok := strings.Cut(f.shard, "/")
	s, err := shardOf("1/" + count)
	if !ok || err != nil || s.Of < 2 {
		return usage("--write needs --shard with the number of parts, such as --shard env/16")
	}
	start, err := startOf(f.startAt, time.Now())
	if err != nil {
		return err
	}
	if f.startAt == "" {
		start = start.Add(startAfter)
	}
	local := !strings.Contains(args[0], "://")
	if f.write == "kubernetes" && local { // it is mounted where the pod works
		args = append([]string{filepath.Base(args[0])}, args[1:]...)
	}
	words := f.partArgs(args, start)
	switch f.write {
	case "kubernetes":
		return e.writeKubernetes(f, words, s.Of, local)
	case "slurm":
		var quoted []string
		for _, w := range words {
			quoted = append(quoted, "'"+strings.ReplaceAll(w, "'", `'\''`)+"'")
		}
		plain.Fprintf(e.Out, `#!/bin/sh
#SBATCH --job-name=hodstone-load
#SBATCH --array=1-%d
#SBATCH --ntasks=1
#SBATCH --cpus-per-task=2
# All parts begin at %s: have them started by then. Afterwards:
#   hodstone load merge part-*.json
ulimit -n "$(ulimit -H -n)"
exec hodstone %s '--shard=env/%d' "--out=part-$SLURM_ARRAY_TASK_ID.json"
`, s.Of, start.Format(time.RFC3339), strings.Join(quoted, " "), s.Of)
		return nil
	}
	return usage("--write takes kubernetes or slurm, not %q", f.write)
}

// writeKubernetes prints an Indexed Job: each pod is a part, and writes its result, as JSON, to its log.
func (e *Env) writeKubernetes(f *loadFlags, words []string, parts int, workspace bool) error {
	type m = yaml.MapSlice
	container := m{
		{Key: "name", Value: "load"},
		{Key: "image", Value: f.image},
		{Key: "args", Value: append(words, fmt.Sprintf("--shard=env/%d", parts), "--json")},
		{
			Key:   "resources",
			Value: m{{Key: "requests", Value: m{{Key: "cpu", Value: "2"}, {Key: "memory", Value: "2Gi"}}}},
		},
	}
	pod := m{{Key: "restartPolicy", Value: "Never"}}
	if workspace {
		container = append(
			container,
			yaml.MapItem{Key: "workingDir", Value: "/workspace"},
			yaml.MapItem{
				Key: "volumeMounts",
				Value: []m{
					{
						{Key: "name", Value: "workspace"},
						{Key: "mountPath", Value: "/workspace"},
						{Key: "readOnly", Value: true},
					},
				},
			},
		)
		pod = append(pod, yaml.MapItem{Key: "volumes", Value: []m{{{Key: "name", Value: "workspace"},
			{Key: "configMap", Value: m{{Key: "name", Value: "hodstone-workspace"}}}}}})
	}
	pod = append(pod, yaml.MapItem{Key: "containers", Value: []m{container}})
	text, err := yaml.Marshal(m{
		{Key: "apiVersion", Value: "batch/v1"},
		{Key: "kind", Value: "Job"},
		{Key: "metadata", Value: m{{Key: "name", Value: "hodstone-load"}}},
		{Key: "spec", Value: m{
			{Key: "completionMode", Value: "Indexed"},
			{Key: "completions", Value: parts},
			{Key: "parallelism", Value: parts},
			{Key: "backoffLimit", Value: 0},
			{Key: "template", Value: m{
				{Key: "metadata", Value: m{{Key: "labels", Value: m{{Key: "app", Value: "hodstone-load"}}}}},
				{Key: "spec", Value: pod},
			}},
		}},
	})
	if err != nil {
		return err
	}
	note := ""
	if workspace {
		note = "# The workspace and the files beside it (not those in folders): kubectl create configmap hodstone-workspace --from-file=FOLDER\n"
	}
	plain.Fprintf(e.Out, `# Each pod is a part of the load, and writes its result to its log. Once all have ended:
#   for p in $(kubectl get pods -l job-name=hodstone-load -o name); do kubectl logs $p > part-$(basename $p).json; done
#   hodstone load merge part-*.json
%s%s`, note, text)
	return nil
}
