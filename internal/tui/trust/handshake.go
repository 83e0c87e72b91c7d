package trust

import (
	"fmt"
	"strings"

	core "hodstone/internal/trust"
	"hodstone/internal/tui/look"
)

var verdictSigns = map[core.Verdict]string{core.Kept: "✓", core.Failed: "✗", core.Undecided: "?", core.Skipped: "-"}

func verdictStyle(t *look.Theme, v core.Verdict) look.Style {
	return map[core.Verdict]look.Style{core.Kept: t.Kept, core.Failed: t.Broken, core.Undecided: t.Warn, core.Skipped: t.Old}[v]
}

// drawHandshake shows what a listener's TLS takes, shows and refuses.
func (s *Screen) drawHandshake(c look.Canvas) {
	t := c.Theme
	if len(s.targets) == 0 {
		c.Teach(
			"No listener has TLS.",
			"Listeners whose URL begins with mqtts:// or wss:// show here: which versions and suites they take,",
			"the chain they present, and whom they refuse.",
		)
		return
	}
	target := s.targets[s.target]
	c.Rule(0, fmt.Sprintf("handshake at %s  %d of %d", target.Name, s.target+1, len(s.targets)), t.Strong)
	c.Right(c.W-1, 0, " "+target.URL+" ", t.Dim)
	v := s.survey.Survey
	switch {
	case s.survey.Running:
		c.Text(2, 2, "◌ trying: "+s.survey.Doing+" …", t.Ours)
		c.Text(2, 3, "s stops it", t.Dim)
		return
	case v == nil:
		c.Teach(
			"Never tried.",
			"h tries it: versions 1.0 to 1.3 and their suites, the chain and the name; with our certificate,",
			"without any, with a stranger's, with an expired one; ALPN, stapling and resumption.",
		)
		return
	case v.Err != nil:
		for i, l := range look.Wrap("✗ not found out: "+v.Err.Error(), c.W-4) {
			c.Text(2, 2+i, l, t.Broken)
		}
		return
	}
	if c.W < 100 {
		s.drawScrolled(c.Sub(0, 1, c.W, c.H-1), v)
		return
	}
	half := c.W / 2
	left := c.Sub(0, 2, half-1, c.H-2)
	s.grid.Draw(left, gridLines(v, t, half-1))
	right := append(chainLines(v, t, c.W-half-1), trialLines(v, t, c.W-half-1)...)
	s.text.Draw(c.Sub(half+1, 2, c.W-half-1, c.H-2), right)
}

// drawScrolled shows everything in one column.
func (s *Screen) drawScrolled(c look.Canvas, v *core.Survey) {
	t := c.Theme
	all := append(trialLines(v, t, c.W-2), chainLines(v, t, c.W-2)...)
	all = append(all, gridLines(v, t, c.W-2)...)
	s.text.Draw(c.Sub(1, 0, c.W-1, c.H), all)
}

// gridLines is the grid of suites and versions tried. Suites that no version takes are
// counted, not listed.
func gridLines(v *core.Survey, t *look.Theme, w int) (out []look.Line) {
	head := look.Line{look.Say(look.Pad("suites taken", w-4*5-1), t.Strong)}
	for _, x := range v.Versions {
		head = append(head, look.Say(look.Pad(core.VersionName(x.Version), 5), t.Dim))
	}
	out = append(out, head)
	for _, id := range v.Suites() {
		st := t.Text
		weak := core.WeakSuite(id)
		if weak != "" {
			st = t.Warn
		}
		name := strings.TrimPrefix(core.SuiteName(id), "TLS_")
		if weak != "" {
			name = "! " + name
		}
		l := look.Line{look.Say(look.Pad(look.Clip(name, w-4*5-2), w-4*5-1), st)}
		for _, x := range v.Versions {
			sign, style := "·", t.Line
			offered := false
			for _, y := range x.Tried {
				offered = offered || y == id
			}
			for k, y := range x.Suites {
				if y == id {
					sign, style = fmt.Sprint(k+1), t.Kept // its rank in the server's choice
				}
			}
			if !offered {
				sign = " "
			}
			l = append(l, look.Say(look.Pad(sign, 5), style))
		}
		out = append(out, l)
	}
	out = append(out, look.Line{look.Say("the number is the order in which the server chose them", t.Old)}, nil)
	for _, x := range v.Versions {
		l := look.Line{look.Say(look.Pad("TLS "+core.VersionName(x.Version), 9), t.Text)}
		switch {
		case !x.Taken:
			l = append(l, look.Say("○ not taken: ", t.Old), look.Say(x.Refusal, t.Dim))
		case x.Version < v.Versions[1].Version:
			l = append(
				l,
				look.Say(
					fmt.Sprintf("! taken, %d of %d suites; deprecated (RFC 8996)", len(x.Suites), len(x.Tried)),
					t.Warn,
				),
			)
		default:
			l = append(l, look.Say(fmt.Sprintf("✓ taken, %d of %d suites", len(x.Suites), len(x.Tried)), t.Kept))
		}
		out = append(out, l)
	}
	asks := "no client certificate is asked for"
	if v.Required {
		asks = "a client certificate is required"
	} else if v.Asked {
		asks = "a client certificate is asked for, not required"
	}
	facts := [][2]string{
		{
			"agreed",
			fmt.Sprintf(
				"TLS %s, %s, in %s",
				core.VersionName(v.Negotiated.Version),
				core.SuiteName(v.Negotiated.Suite),
				look.Duration(v.Negotiated.Took),
			),
		},
		{
			"clients",
			asks,
		},
		{"issuers", strings.Join(v.CAs, ", ")},
		{"ALPN mqtt", v.ALPN},
		{"OCSP", v.OCSP},
		{"resumption", v.Resumption},
	}
	out = append(out, nil)
	for _, f := range facts {
		if f[1] == "" {
			continue
		}
		for i, text := range look.Wrap(f[1], w-12) {
			label := f[0]
			if i > 0 {
				label = ""
			}
			out = append(out, look.Line{look.Say(look.Pad(label, 12), t.Dim), look.Say(text, t.Text)})
		}
	}
	return out
}

// chainLines is the chain as presented.
func chainLines(v *core.Survey, t *look.Theme, w int) (out []look.Line) {
	out = append(out, look.Line{look.Say("the chain as presented, for "+v.ServerName, t.Strong)})
	for i, c := range v.Presented.Chain {
		joint := "●"
		if i > 0 {
			joint = "│ signed by"
			out = append(out, look.Line{look.Say(joint, t.Dim)})
			joint = "●"
		}
		name := core.Subject(c.Subject.String())
		out = append(
			out,
			look.Line{
				look.Say(joint+" ", t.Kept),
				look.Say(name+"  ", t.Text),
				look.Say(core.Strength(c.PublicKey)+", until "+core.Day(c.NotAfter), t.Dim),
			},
		)
		if names := core.NamesOf(c); len(names) > 0 {
			out = append(out, look.Line{look.Say("│   names "+strings.Join(names, ", "), t.Dim)})
		}
	}
	switch p := &v.Presented; {
	case p.Cause != "":
		out = append(out, look.Line{look.Say("╳ ", t.Broken), look.Say(string(p.Cause), t.Broken)})
		for _, l := range look.Wrap(p.What, w-4) {
			out = append(out, look.Line{look.Say("  "+l, t.Broken)})
		}
		for _, l := range look.Wrap("→ "+p.Remedy, w-4) {
			out = append(out, look.Line{look.Say("  "+l, t.Text)})
		}
	case p.Root != nil:
		out = append(
			out,
			look.Line{look.Say("│ signed by", t.Dim)},
			look.Line{
				look.Say("◆ ", t.Kept),
				look.Say(core.Subject(p.Root.Subject.String())+"  ", t.Text),
				look.Say("trusted, and the name is covered", t.Kept),
			},
		)
	}
	return append(out, nil)
}

// trialLines is what was tried, and whether it was refused as it should.
func trialLines(v *core.Survey, t *look.Theme, w int) (out []look.Line) {
	out = append(out, look.Line{look.Say("tried", t.Strong)})
	for _, x := range v.Trials {
		st := verdictStyle(t, x.Verdict)
		out = append(
			out,
			look.Line{
				look.Say(verdictSigns[x.Verdict]+" ", st),
				look.Say(look.Pad(string(x.Verdict), 10), st),
				look.Say(x.Name, t.Text),
			},
		)
		for _, l := range look.Wrap(x.Seen, w-14) {
			out = append(out, look.Line{look.Say(strings.Repeat(" ", 12)+l, t.Dim)})
		}
	}
	for _, d := range v.Device {
		verdict := core.Kept
		if !d.In {
			verdict = core.Failed
		}
		st := verdictStyle(t, verdict)
		out = append(
			out,
			look.Line{
				look.Say(verdictSigns[verdict]+" ", st),
				look.Say(look.Pad(string(verdict), 10), st),
				look.Say(d.Title(), t.Text),
			},
		)
		for _, l := range look.Wrap(d.Seen, w-14) {
			out = append(out, look.Line{look.Say(strings.Repeat(" ", 12)+l, t.Dim)})
		}
	}
	out = append(out, nil)
	for _, f := range v.Findings {
		st, sign := t.Dim, "· "
		switch f.Severity {
		case core.Broken:
			st, sign = t.Broken, "✗ "
		case core.Worry:
			st, sign = t.Warn, "! "
		}
		for i, l := range look.Wrap(f.What, w-4) {
			if i > 0 {
				sign = "  "
			}
			out = append(out, look.Line{look.Say(sign+l, st)})
		}
		for _, l := range look.Wrap(f.Remedy, w-6) {
			if l != "" {
				out = append(out, look.Line{look.Say("  → "+l, t.Text)})
			}
		}
	}
	return out
}
