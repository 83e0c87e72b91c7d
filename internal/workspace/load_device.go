package workspace

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

func (l *loader) device(e entry) {
	what := "device " + e.key
	f := e.value.fields("device", what)
	before := len(e.at.r.problems)
	d := &Device{Name: e.key, Parameters: map[string]string{}, Note: f["note"].str("note")}
	d.Count, _ = f["count"].integer("count", 1, maxDevices)
	d.Plays, _ = f["plays"].known("party", l.partyNames())
	for _, x := range f["parameters"].entries("parameters") {
		if _, ok := l.w.Contract.Parameters[x.key]; !ok {
			x.at.fail("", "no topic has a parameter {%s}", x.key)
		}
		d.Parameters[x.key] = x.value.str("parameter")
	}
	l.deviceBroker(d, f["broker"])
	if lg := f["login"]; lg.exists() {
		d.Login = lg.str("login")
		for n := range max(1, d.Count) {
			if name := FillIn(d.Login, n+1); l.w.Login(name) == nil {
				lg.fail(suggest(name, l.loginNames()), "login %q is not defined", name)
				break
			}
		}
	}
	l.session(d, f["session"])
	for _, x := range f["signals"].entries("signals") {
		d.Signals = append(d.Signals, l.signal(x))
	}
	if p := f["presence"]; p.exists() {
		if cl := l.ownClause(d, p, "presence"); cl != nil {
			d.Presence = cl.Name
			if cl.Presence == nil {
				p.fail("give the clause presence: {coming: …, leaving: …, lost: …}", "clause %s does not say what presence looks like", cl.Name)
			}
		}
	}
	for _, x := range f["publishes"].list() {
		l.publication(d, x)
	}
	for _, x := range f["reactions"].list() {
		l.reaction(d, x)
	}
	if !f["plays"].exists() || len(e.at.r.problems) > before {
		return
	}
	l.w.Devices = append(l.w.Devices, d)
}

// FillIn puts the number of a device into a text with {n}.
func FillIn(s string, n int) string { return strings.ReplaceAll(s, "{n}", strconv.Itoa(n)) }

func (l *loader) deviceBroker(d *Device, n node) {
	all := names(l.w.Brokers, func(b *Broker) string { return b.Name })
	if len(all) == 0 {
		return // told already, or a workspace without brokers: the device cannot start
	}
	d.Broker = all[0]
	if !n.exists() {
		return
	}
	name, listener, _ := strings.Cut(n.str("broker"), "/")
	b := l.w.Broker(name)
	if b == nil {
		if !n.r.unsound["broker "+name] {
			n.fail(suggest(name, all), "broker %q is not defined", name)
		}
		d.Broker = name
		return
	}
	ways := b.Ways()
	if listener != "" && !slices.ContainsFunc(ways, func(x Listener) bool { return x.Name == listener }) {
		n.fail(suggest(listener, names(ways, func(x Listener) string { return x.Name })), "broker %s has no listener %q", name, listener)
	}
	d.Broker, d.Listener = name, listener
}

func (l *loader) session(d *Device, n node) {
	d.Session = Session{Version: packet.V311, ClientID: d.Name, CleanStart: true, KeepAlive: 30 * time.Second}
	if d.Count > 0 {
		d.Session.ClientID += "-{n}"
	}
	f := n.fields("session", "the session of device "+d.Name)
	if v := f["version"]; v.exists() {
		d.Session.Version, _ = v.version()
	}
	if id := f["client-id"]; id.exists() {
		d.Session.ClientID = id.str("client-id")
		if d.Count > 1 && !strings.Contains(d.Session.ClientID, "{n}") {
			id.fail("put {n} into it", "%d devices would share the client id %q and throw each other out", d.Count, d.Session.ClientID)
		}
	}
	if c := f["clean-start"].boolean("clean-start"); c != nil {
		d.Session.CleanStart = *c
	}
	if k := f["keep-alive"]; k.exists() {
		d.Session.KeepAlive = k.duration("keep-alive")
		if d.Session.KeepAlive%time.Second != 0 || d.Session.KeepAlive > 65535*time.Second {
			k.fail("", "keep-alive is counted in whole seconds, up to 65535s")
		}
	}
}

// waveKeys are the keys that each wave uses, besides start, wave and unit.
var waveKeys = map[string][]string{
	"constant": {}, "sine": {"mean", "swing", "noise", "period"}, "ramp": {"from", "to", "noise", "period"},
	"walk": {"step", "every", "minimum", "maximum"}, "counter": {"step", "every"},
}

func (l *loader) signal(e entry) Signal {
	what := "signal " + e.key
	f := e.value.fields("signal", what)
	s := Signal{Name: e.key, Wave: "constant", Unit: f["unit"].str("unit"), Step: 1, Every: time.Second, Period: time.Minute,
		Minimum: f["minimum"].number("minimum"), Maximum: f["maximum"].number("maximum")}
	if !regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`).MatchString(e.key) || slices.Contains([]string{"payload", "params", "n", "now", "count", "round", "choice"}, e.key) {
		e.at.fail("use letters, digits and _; payload, params, n and the functions' names are taken", "%q cannot be a signal's name", e.key)
	}
	if w := f["wave"]; w.exists() {
		if wave, ok := w.known("wave", []string{"constant", "sine", "ramp", "walk", "counter"}); ok {
			s.Wave = wave
		}
	}
	for key, n := range f {
		if !slices.Contains([]string{"start", "wave", "unit"}, key) && !slices.Contains(waveKeys[s.Wave], key) {
			n.fail("a "+s.Wave+" has: "+strings.Join(append([]string{"start", "unit"}, waveKeys[s.Wave]...), ", "), "%s does nothing for a %s", key, s.Wave)
		}
	}
	s.Start = literals(f["start"].plain())
	for key, to := range map[string]*float64{"mean": &s.Mean, "swing": &s.Swing, "noise": &s.Noise, "from": &s.From, "to": &s.To, "step": &s.Step} {
		if v := f[key].number(key); v != nil {
			*to = *v
		}
	}
	for key, to := range map[string]*time.Duration{"period": &s.Period, "every": &s.Every} {
		if n := f[key]; n.exists() {
			if *to = n.duration(key); *to <= 0 {
				n.fail(durationHint, "%s of %s must be longer than nothing", key, what)
				*to = time.Second
			}
		}
	}
	return s
}

// ownClause reads the name of a clause that the device's party publishes and whose
// parameters the device has.
func (l *loader) ownClause(d *Device, n node, what string, given ...string) *contract.Clause {
	name, ok := n.known("clause", l.clauseNames())
	if !ok {
		return nil
	}
	cl := l.w.Contract.Clause(name)
	if cl.From != d.Plays {
		n.fail("", "%s: clause %s is published by %s, not by %s", what, name, cl.From, d.Plays)
		return nil
	}
	for _, p := range cl.Topic.Parameters() {
		if _, ok := d.Parameters[p]; !ok && !slices.Contains(given, p) {
			n.fail(fmt.Sprintf("add parameters: {%s: …}", p), "device %s has no value for {%s} of clause %s", d.Name, p, cl.Name)
			return nil
		}
	}
	return cl
}

func (l *loader) names(d *Device, more ...string) []string {
	return append(names(d.Signals, func(s Signal) string { return s.Name }), append(more, "n")...)
}

func (l *loader) template(n node, v any, names []string) *expression.Template {
	t, err := expression.Compile(literals(v), names)
	if err != nil {
		var e *expression.Error
		if errors.As(err, &e) {
			n = n.at(e.Path)
			line, column := n.position()
			at := column + e.Offset
			if strings.HasPrefix(strings.TrimLeft(n.r.lines[line-1][min(column-1, len(n.r.lines[line-1])):], " "), `"`) {
				at++
			}
			hint := "known here: " + strings.Join(names, ", ") + "; functions: now(), count(), round(x, digits), choice(a, b, …)"
			n.r.problem(line, at+len(expression.Prefix), e.Error(), hint)
			return nil
		}
		n.fail("", "%v", err)
	}
	return t
}

func (l *loader) publication(d *Device, n node) {
	f := n.fields("publication", "a publication of device "+d.Name)
	p := Publication{Every: f["every"].duration("every")}
	switch c, t := f["clause"], f["topic"]; {
	case c.exists() == t.exists():
		n.fail("", "a publication has a clause or a topic, one of them")
		return
	case c.exists():
		given := l.parameters(d, &p, f["parameters"])
		cl := l.ownClause(d, c, "publishes", given...)
		if cl == nil {
			return
		}
		p.Clause = cl.Name
		if cl.QoS != nil {
			p.QoS = *cl.QoS
		}
		p.Retain = cl.Retain != nil && *cl.Retain
	default:
		p.Topic = t.str("topic")
		if err := topic.CheckName(p.Topic); err != nil {
			t.fail("", "%v", err)
		}
	}
	if q, ok := f["qos"].integer("qos", 0, 2); ok {
		p.QoS = packet.QoS(q)
	}
	if r := f["retain"].boolean("retain"); r != nil {
		p.Retain = *r
	}
	if w := f["when-changed"]; w.exists() {
		wf := w.fields("change", "when-changed")
		p.WhenChanged, _ = wf["signal"].known("signal", l.names(d))
		if by := wf["by"].number("by"); by != nil {
			p.By = *by
		}
	}
	if v := f["payload"]; v.exists() {
		p.Payload = l.template(v, v.ordered(), l.names(d, "payload", "params"))
	}
	if c := f["where"]; c.exists() {
		p.Where = l.condition(d, c)
	}
	d.Publishes = append(d.Publishes, p)
}

// parameters reads those that a publication gives by itself.
func (l *loader) parameters(d *Device, p *Publication, n node) (given []string) {
	p.Parameters = map[string]*expression.Template{}
	for _, x := range n.entries("parameters") {
		p.Parameters[x.key] = l.template(x.value, x.value.ordered(), l.names(d, "payload", "params"))
		given = append(given, x.key)
	}
	return given
}

// condition reads an expression that needs no prefix.
func (l *loader) condition(d *Device, n node) *expression.Template {
	source := strings.TrimPrefix(n.str("where"), expression.Prefix)
	return l.template(n, expression.Prefix+source, l.names(d, "payload", "params"))
}

func (l *loader) reaction(d *Device, n node) {
	f := n.fields("reaction", "a reaction of device "+d.Name)
	r := Reaction{Set: map[string]*expression.Template{}}
	w := f["when"]
	name, ok := w.known("clause", l.clauseNames())
	if !w.exists() || !ok {
		return
	}
	r.When = name
	if cl := l.w.Contract.Clause(name); !slices.Contains(cl.To, d.Plays) {
		w.fail("add it to the clause's 'to'", "clause %s is not meant for %s", name, d.Plays)
	}
	if c := f["where"]; c.exists() {
		r.Where = l.condition(d, c)
	}
	for _, x := range f["set"].entries("set") {
		if !slices.ContainsFunc(d.Signals, func(s Signal) bool { return s.Name == x.key }) {
			x.at.fail(suggest(x.key, names(d.Signals, func(s Signal) string { return s.Name })), "signal %q is not defined", x.key)
			continue
		}
		r.Set[x.key] = l.template(x.value, x.value.ordered(), l.names(d, "payload", "params"))
	}
	if a := f["after"]; a.exists() {
		lo, hi, both := strings.Cut(a.str("after"), "..")
		var err, err2 error
		r.AfterMin, err = time.ParseDuration(lo)
		r.AfterMax = r.AfterMin
		if both {
			r.AfterMax, err2 = time.ParseDuration(hi)
		}
		if err != nil || err2 != nil || r.AfterMin < 0 || r.AfterMax < r.AfterMin {
			a.fail("write 200ms or 150ms..400ms", "after is no time span: %q", a.str("after"))
		}
	}
	for _, x := range f["publish"].list() {
		name := x.str("publish")
		if x.r.unsound["clause "+name] {
			continue
		}
		if !slices.ContainsFunc(d.Publishes, func(p Publication) bool { return p.Clause == name }) {
			x.fail("add it to the device's publishes; without 'every' it is sent in reactions only", "device %s publishes nothing under clause %q", d.Name, name)
		}
		r.Publish = append(r.Publish, name)
	}
	d.Reactions = append(d.Reactions, r)
}
