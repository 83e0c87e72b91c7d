package workbench

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// editors are tried where the environment names none.
var editors = []string{"sensible-editor", "nano", "vim", "vi"}

// Editor returns the command that opens the workspace's file, or one beside it where it is named, in the user's editor,
// at a line. The editor is that of $VISUAL or $EDITOR, with the options that stand there, else one that is
// there. The error says why nothing can be edited.
func (b *Bench) Editor(beside string, line int) (*exec.Cmd, error) {
	switch {
	case b.Record != nil:
		return nil, errors.New("a record has no workspace to edit")
	case !b.opt.Follow:
		return nil, errors.New(
			"this workspace is inside the program: 'hodstone demo --write FOLDER' makes a copy to edit",
		)
	}
	words := strings.Fields(os.Getenv("VISUAL"))
	if len(words) == 0 {
		words = strings.Fields(os.Getenv("EDITOR"))
	}
	for _, name := range editors {
		if len(words) > 0 {
			break
		}
		if at, err := exec.LookPath(name); err == nil {
			words = []string{at}
		}
	}
	if len(words) == 0 {
		return nil, errors.New("there is no editor: name yours in the environment variable EDITOR")
	}
	program, err := exec.LookPath(words[0])
	if err != nil {
		return nil, fmt.Errorf("the editor %s is not there: name another in the environment variable EDITOR", words[0])
	}
	file := b.Workspace().File
	if beside != "" {
		file = filepath.Join(filepath.Dir(file), filepath.FromSlash(beside))
	}
	return exec.Command(program, append(words[1:], atLine(program, file, max(line, 1))...)...), nil
}

// atLine are the arguments by which an editor opens a file at a line: +LINE before the name is
// what most of those in terminals take.
func atLine(program, file string, line int) []string {
	switch name := strings.TrimSuffix(filepath.Base(program), ".exe"); name {
	case "hx", "helix", "subl", "zed":
		return []string{fmt.Sprintf("%s:%d", file, line)}
	case "code", "codium", "code-insiders":
		return []string{"--wait", "--goto", fmt.Sprintf("%s:%d", file, line)}
	}
	return []string{fmt.Sprintf("+%d", line), file}
}
