// Package trust is the screen of credentials and handshakes: every certificate as a bar of
// its validity on one time axis, joined to its key and its signer; and what a server's TLS
// takes, shows and refuses.
package trust

import (
	"crypto/x509"
	"fmt"
	"path/filepath"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/reach"
	"hodstone/internal/report"
	core "hodstone/internal/trust"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// Screen is the trust screen.
type Screen struct {
	bench     *workbench.Bench
	inventory *core.Inventory
	paths     []string
	rows      []row
	at        int
	first     int
	targets   []reach.Target // with TLS
	target    int
	survey    workbench.SurveyState
	handshake bool           // the handshake is shown, not the credentials
	text      *look.Scrolled // of the handshake
	grid      *look.Scrolled
	open      bool // the row with the cursor is opened
	input     *look.Input
	asks      string
	device    core.Device // that is asked for too
	height    int
}

// New returns the screen.
func New(b *workbench.Bench) *Screen {
	return &Screen{bench: b, height: 10, text: look.NewScrolled(), grid: look.NewScrolled()}
}

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "trust" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return s.input != nil }

// refresh takes in how things stand.
func (s *Screen) refresh() {
	v, paths := s.bench.Credentials()
	if v != s.inventory {
		s.inventory = v
		s.rows = rowsOf(v)
	}
	s.paths = paths
	s.at = max(0, min(s.at, len(s.rows)-1))
	s.targets = s.bench.SurveyTargets()
	s.target = max(0, min(s.target, len(s.targets)-1))
	if len(s.targets) > 0 {
		s.survey = s.bench.Survey(s.targets[s.target].Name)
	}
}

// findings are those of the credentials and of all handshakes tried.
func (s *Screen) findings() (out []core.Finding) {
	if s.inventory != nil {
		out = append(out, s.inventory.Findings...)
	}
	for _, t := range s.targets {
		if x := s.bench.Survey(t.Name).Survey; x != nil {
			out = append(out, x.Findings...)
		}
	}
	return out
}

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	var lines []look.RailLine
	if s.inventory == nil {
		word := "no credentials"
		if len(s.paths) > 0 {
			word = "reading"
		}
		lines = append(lines, look.RailLine{Text: word, Style: t.Old})
	} else {
		lines = append(lines, look.RailLine{Text: look.Plural(len(s.inventory.Files), "file"), Style: t.Dim})
	}
	n := map[core.Severity]int{}
	for _, f := range s.findings() {
		n[f.Severity]++
	}
	if n[core.Broken] > 0 {
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("✗ %d broken", n[core.Broken]), Style: t.Broken})
	}
	if n[core.Worry] > 0 {
		lines = append(lines, look.RailLine{Text: "! " + look.Plural(n[core.Worry], "worry"), Style: t.Warn})
	}
	return lines
}

// Update takes a message.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case look.Tick:
		s.refresh()
	case tea.PasteMsg:
		if s.input != nil {
			s.input.Update(msg)
		}
	case tea.KeyPressMsg:
		cmd, done := look.Press(s.Actions(), msg)
		if !done && s.input != nil {
			s.input.Update(msg)
		}
		return cmd
	}
	return nil
}

// Actions is what can be done here and now.
func (s *Screen) Actions() []look.Action {
	switch {
	case s.input != nil:
		return []look.Action{
			look.Act("enter", "do it", s.answer),
			look.Let("esc", "leave it", func() { s.input = nil }),
		}
	case s.handshake:
		return append(s.handshakeActions(), s.exports()...)
	}
	return append(s.credentialActions(), s.exports()...)
}

func (s *Screen) handshakeActions() (out []look.Action) {
	if s.survey.Running {
		out = append(out, look.Let("s", "stop", s.bench.StopSurvey))
	} else {
		out = append(out, look.Act("h", "try the handshake", s.try))
	}
	out = append(out, look.Let("d", "a device's means", func() {
		s.input, s.asks = look.NewInput(
			"what a device has of TLS: versions, and suites if few (1.2 0xC02B)",
			s.device.String(),
		), "d"
	}))
	if n := len(s.targets); n > 1 {
		out = append(out, look.Let("b", "next listener", func() {
			s.target = (s.target + 1) % n
			s.text.Top()
			s.refresh()
		}))
	}
	return append(out, s.text.Action(), look.Let("v esc", "credentials", func() { s.handshake = false }))
}

func (s *Screen) credentialActions() []look.Action {
	out := []look.Action{look.Moves("choose", &s.at, len(s.rows), s.height, nil)}
	switch {
	case s.open:
		out = append(out, look.Let("esc enter", "close", func() { s.open = false }))
	case len(s.rows) > 0:
		out = append(out, look.Let("enter", "open", func() { s.open = true }))
	}
	if login := s.login(); login != "" {
		out = append(out, look.Act("y", "copy the login", func() tea.Cmd {
			return tea.Batch(
				tea.SetClipboard(login),
				look.Tell(false, "login copied: it goes into the workspace as it is"),
			)
		}))
	} else {
		why := "this makes no login: choose a client's certificate whose key is there"
		out = append(out, look.CanNot("y", "copy the login", why))
	}
	if s.inventory != nil {
		out = append(out, look.Let("p", "passphrase", func() {
			s.input, s.asks = look.NewSecretInput("passphrase, not kept:"), "p"
		}))
	}
	handshake := func() { s.handshake, s.open = true, false; s.text.Top() }
	return append(out,
		look.Act("h", "try the handshake", func() tea.Cmd { handshake(); return s.try() }),
		look.Let("v", "handshake", handshake),
		look.Act("r", "read again", func() tea.Cmd {
			s.bench.Examine()
			return look.Tell(false, "the credentials are read again")
		}),
	)
}

// exports are what can be written of what is shown.
func (s *Screen) exports() []look.Action {
	return []look.Action{
		look.Act("c", "export the CA", func() tea.Cmd {
			if cas, _ := s.cas(); len(cas) == 0 {
				return look.Tell(true, "there is no CA to export: neither among the credentials nor from a server")
			}
			s.input, s.asks = look.NewInput("export the CA to (.pem .der .h .hpp .go .rs)", "farm-ca.pem"), "c"
			return nil
		}),
		look.Act("x", "export", func() tea.Cmd {
			if s.inventory == nil && s.survey.Survey == nil {
				return look.Tell(true, "there is nothing to export")
			}
			name := s.view() + "-" + time.Now().Format("20060102-150405") + ".svg"
			s.input, s.asks = look.NewInput("export what is shown to", name), "x"
			return nil
		}),
	}
}

func (s *Screen) try() tea.Cmd {
	if len(s.targets) == 0 {
		return look.Tell(true, "the workspace has no listener with TLS")
	}
	if s.survey.Running {
		return look.Tell(false, "it is being tried already: s stops it")
	}
	if err := s.bench.StartSurvey(s.targets[s.target], s.device); err != nil {
		return look.Tell(true, err.Error())
	}
	s.refresh()
	return nil
}

// login is what the row with the cursor makes, as it goes into a workspace, or "".
func (s *Screen) login() string {
	if s.inventory == nil || s.handshake || s.at >= len(s.rows) {
		return ""
	}
	for i := range s.inventory.Identities {
		if id := &s.inventory.Identities[i]; id.Certificate == s.rows[s.at].certificate {
			return report.LoginYAML(id, s.dir())
		}
	}
	return ""
}

// view names what is shown.
func (s *Screen) view() string {
	if s.handshake {
		return "handshake"
	}
	return "trust"
}

// cas are the CAs to export, and whether only a server vouches for them.
func (s *Screen) cas() (out []*x509.Certificate, fetched bool) {
	if !s.handshake && s.inventory != nil {
		if s.at < len(s.rows) && s.rows[s.at].certificate != nil && s.rows[s.at].certificate.IsCA {
			return []*x509.Certificate{s.rows[s.at].certificate.Certificate}, false
		}
		return s.inventory.CAs(), false
	}
	if x := s.survey.Survey; x != nil {
		return x.TrustedCAs()
	}
	return nil, false
}

// answer takes what was typed.
func (s *Screen) answer() tea.Cmd {
	value := s.input.Value()
	var err error
	done := ""
	switch s.asks {
	case "p":
		s.input = nil
		return func() tea.Msg {
			if n := s.bench.Unlock(value); n > 0 {
				return look.Notice{Text: "opened: " + look.Plural(n, "item")}
			}
			return look.Notice{Text: "it opens nothing", Bad: true}
		}
	case "d":
		var device core.Device
		if device, err = core.ParseDevice(value); err == nil {
			s.input, s.device = nil, device
			return s.try()
		}
	case "c":
		cas, fetched := s.cas()
		err = s.bench.ExportCA(value, cas, fetched)
		done = "written: " + value
		if fetched {
			done += "; not yet trusted: compare its fingerprint by another way"
		}
	case "x":
		d, drawErr := report.TrustDrawing(
			s.bench.Workspace().Name,
			time.Now(),
			s.inventory,
			s.survey.Target.Name,
			s.survey.Survey,
			s.handshake,
		)
		if err = drawErr; err == nil {
			err = s.bench.Export(value, d)
		}
		done = "written: " + value
	}
	if err != nil {
		s.input.Error = err.Error()
		return nil
	}
	s.input = nil
	return look.Tell(false, done)
}

// row is a line of the credentials: a certificate in the tree of who signed whom, or a file
// that made none.
type row struct {
	certificate *core.Certificate
	depth       int
	file        *core.File
	missing     string // an issuer that is not there
}

// title is what a row is about.
func (r *row) title() string {
	switch {
	case r.certificate != nil:
		return r.certificate.Title()
	case r.file != nil:
		return filepath.Base(r.file.Name)
	}
	return r.missing
}

// rowsOf puts certificates under their signers, then lists the files that hold none.
func rowsOf(v *core.Inventory) (out []row) {
	if v == nil {
		return nil
	}
	missing := ""
	for _, c := range v.Tree() {
		top := c.Chain[len(c.Chain)-1]
		depth := len(c.Chain) - 1
		if top.Missing != "" {
			depth++ // below the signer that is not there
			if top.Missing != missing {
				missing = top.Missing
				out = append(out, row{missing: missing})
			}
		}
		out = append(out, row{certificate: c, depth: depth})
	}
	for _, f := range v.Files {
		if !f.Has(core.KindCertificate) && !keyIsUsed(v, f) {
			out = append(out, row{file: f})
		}
	}
	return out
}

// keyIsUsed tells whether a file's key shows beside its certificate.
func keyIsUsed(v *core.Inventory, f *core.File) bool {
	if f.Problem != "" || f.LockedItems() > 0 {
		return false
	}
	for _, k := range v.Keys {
		for _, name := range k.Files {
			if name == f.Name && len(k.Certificates) > 0 {
				return true
			}
		}
	}
	return false
}

// about returns the findings on a row.
func (s *Screen) about(r *row) (out []core.Finding) {
	for _, f := range s.inventory.Findings {
		switch {
		case r.certificate != nil && f.Where == r.certificate.Title():
			out = append(out, f)
		case r.file != nil && f.Where == r.file.Name:
			out = append(out, f)
		case r.certificate != nil:
			for _, name := range r.files() {
				if f.Where == name {
					out = append(out, f)
				}
			}
		}
	}
	return out
}

// files are those that a certificate and its key stand in.
func (r *row) files() (out []string) {
	if c := r.certificate; c != nil {
		out = append(out, c.Files...)
		if c.Key != nil {
			for _, k := range c.Key.Files {
				if len(c.Files) == 0 || k != c.Files[0] {
					out = append(out, k)
				}
			}
		}
	}
	return out
}
