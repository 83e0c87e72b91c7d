package look

import (
	"io"
	"os/exec"
	"time"

	tea "charm.land/bubbletea/v2"
)

// Program runs a program in the terminal. Before, it lets the goroutine that drew the screen end: on a single processor
// that would else happen after the screen is drawn again, if the program ends within milliseconds, and stop that.
type Program struct{ *exec.Cmd }

// drawn is how long drawing may take to end.
const drawn = 5 * time.Millisecond

// Run implements [tea.ExecCommand].
func (e Program) Run() error {
	time.Sleep(drawn)
	return e.Cmd.Run()
}

// SetStdin implements [tea.ExecCommand].
func (e Program) SetStdin(r io.Reader) { e.Stdin = r }

// SetStdout implements [tea.ExecCommand].
func (e Program) SetStdout(w io.Writer) { e.Stdout = w }

// SetStderr implements [tea.ExecCommand].
func (e Program) SetStderr(w io.Writer) { e.Stderr = w }

// Edit opens an editor, if the error does not say why there is none; what it changes is taken in at once.
func Edit(cmd *exec.Cmd, err error) tea.Cmd {
	if err != nil {
		return Tell(true, err.Error())
	}
	return tea.Exec(Program{cmd}, func(err error) tea.Msg {
		if err != nil {
			return Notice{Text: "the editor ended with: " + err.Error(), Bad: true}
		}
		return Notice{Text: "what was edited comes into force as it is taken in; what is wrong with it is told"}
	})
}
