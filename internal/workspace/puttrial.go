package workspace

import (
	"errors"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"hodstone/internal/expression"
)

// PutTrial adds a trial behind those that there are: each step on a line of its own; all else stays byte for byte.
func PutTrial(text, name string, steps []expression.Object) (string, error) {
	_, root, ok := parse("", []byte(text))
	if !ok {
		return "", errors.New("the file cannot be read: mend it first")
	}
	lines := strings.SplitAfter(text, "\n")
	indent, end := 2, len(lines)
	trials, is := root.entry("trials")
	if is && trials.exists() {
		list, seq := trials.n.(*ast.SequenceNode)
		if !seq || list.IsFlowStyle || len(list.Values) == 0 {
			return "", errors.New("the trials stand in brackets: write each on lines of its own, behind '- '")
		}
		line, column := trials.position()
		indent = column - 1
		end = blockEnd(lines, line-1, max(0, indent-1))
	}
	var b strings.Builder
	if n := len(lines); end == n && n > 0 && lines[n-1] != "" && !strings.HasSuffix(lines[n-1], "\n") {
		b.WriteString("\n")
	}
	if !is {
		b.WriteString("\ntrials:\n")
	}
	pad := strings.Repeat(" ", indent)
	b.WriteString(pad + "- name: " + scalar(name) + "\n" + pad + "  steps:\n")
	for _, s := range steps {
		b.WriteString(pad + "    - " + flow(s) + "\n")
	}
	return splice(lines, end, end, b.String()), nil
}
