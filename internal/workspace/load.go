package workspace

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
)

// loader fills a workspace from nodes.
type loader struct {
	w    *Workspace
	fsys fs.FS
}

func (l *loader) load(root node) {
	f := root.fields("workspace", "the workspace")
	if v := f["hodstone"]; v.exists() && v.str("hodstone") != "1" {
		v.fail("this program reads version 1", "version %q of the language is not known", v.str("hodstone"))
	}
	l.w.Name = f["name"].str("name")
	for _, e := range f["logins"].entries("logins") {
		l.login(e)
	}
	for _, e := range f["brokers"].entries("brokers") {
		if l.broker(e); l.w.Broker(e.key) == nil {
			root.r.unsound["broker "+e.key] = true
		}
	}
	l.contract(f["contract"])
	for _, e := range f["devices"].entries("devices") {
		l.device(e)
	}
}

func names[T any](items []T, name func(T) string) (out []string) {
	for _, x := range items {
		out = append(out, name(x))
	}
	return out
}

func (l *loader) loginNames() []string {
	return names(l.w.Logins, func(x *Login) string { return x.Name })
}
func (l *loader) clauseNames() []string {
	return names(l.w.Contract.Clauses, func(c *contract.Clause) string { return c.Name })
}
func (l *loader) partyNames() []string {
	return names(l.w.Contract.Parties, func(p contract.Party) string { return p.Name })
}

func (l *loader) login(e entry) {
	f := e.value.fields("login", "login "+e.key)
	login := &Login{Name: e.key, Username: f["username"].str("username")}
	if login.Username == "" {
		login.Username = e.key
	}
	if p := f["password"]; p.exists() {
		// Without its secret the login stays: a stand-in makes one up, a real broker refuses it.
		login.Password, login.HasPassword = l.secret(p, "the password of login "+e.key)
	}
	if c := f["certificate"]; c.exists() {
		login.Certificate = l.certificate(c, f["key"])
	} else if k := f["key"]; k.exists() {
		k.fail("add certificate: FILE", "login %s has a key but no certificate", e.key)
	}
	l.w.Logins = append(l.w.Logins, login)
}

// certificate reads a client's certificate and key from PEM files.
func (l *loader) certificate(c, k node) *tls.Certificate {
	if !k.exists() {
		c.fail("add key: FILE", "the certificate has no key beside it")
		return nil
	}
	chain, ok := l.file(c)
	key, ok2 := l.file(k)
	if !ok || !ok2 {
		return nil
	}
	pair, err := tls.X509KeyPair(chain, key)
	if err != nil {
		c.fail("both must be PEM, and belong together", "certificate and key cannot be used: %v", err)
		return nil
	}
	return &pair
}

// file reads a file beside the workspace that a node names.
func (l *loader) file(n node) ([]byte, bool) {
	b, err := fs.ReadFile(l.fsys, path.Clean(n.str("file")))
	if err != nil {
		n.fail("the path is relative to the workspace's folder", "%s cannot be read", n.str("file"))
	}
	return b, err == nil
}

// secret reads a value, or where it is kept outside the file.
func (l *loader) secret(n node, what string) (Secret, bool) {
	entries := []entry(nil)
	if strings.HasPrefix(describe(n.real()), "a mapping") {
		entries = n.entries(what)
	}
	if entries == nil {
		return NewSecret(n.str(what)), true
	}
	if len(entries) != 1 || entries[0].key != "env" && entries[0].key != "file" {
		n.fail("write {env: NAME} or {file: path}", "%s cannot be read", what)
		return Secret{}, false
	}
	switch where := entries[0].value.str(what); entries[0].key {
	case "env":
		v, ok := os.LookupEnv(where)
		if !ok {
			entries[0].value.fail("set it before starting Hodstone: export "+where+"=…", "%s is missing: the environment variable %s is not set", what, where)
		}
		return NewSecret(v), ok
	default:
		b, err := fs.ReadFile(l.fsys, path.Clean(where))
		if err != nil {
			entries[0].value.fail("the path is relative to the workspace's folder", "%s is missing: %s cannot be read", what, where)
			return Secret{}, false
		}
		return NewSecret(strings.TrimRight(string(b), "\r\n")), true
	}
}

// known checks that a name is among those defined.
func (n node) known(what string, all []string) (string, bool) {
	s := n.str(what)
	if !n.exists() || slices.Contains(all, s) {
		return s, true
	}
	if !n.r.unsound[what+" "+s] { // what is wrong with it is told where it is defined
		n.fail(suggest(s, all), "%s %q is not defined", what, s)
	}
	return s, false
}

func (l *loader) broker(e entry) {
	f := e.value.fields("broker", "broker "+e.key)
	b := &Broker{Name: e.key, Anonymous: f["anonymous"].boolean("anonymous"), Version: packet.V5}
	ok := true
	if v := f["version"]; v.exists() {
		b.Version, ok = v.version()
	}
	if in := f["intrusive"]; in.exists() {
		if b.Intrusive = in.str("intrusive") == "allowed"; !b.Intrusive {
			in.fail(`write "allowed", or leave it out`, "intrusive cannot be %q", in.str("intrusive"))
		}
	}
	var known bool
	b.Login, known = f["login"].known("login", l.loginNames())
	ok = ok && known
	for _, x := range f["listeners"].entries("listeners") {
		lf := x.value.fields("listener", "listener "+x.key)
		if u := lf["url"]; u.exists() {
			endpoint, err := link.Parse(u.str("url"))
			if err != nil {
				u.fail("write mqtt://HOST or mqtt://HOST:PORT", "%v", err)
				continue
			}
			listener := Listener{Name: x.key, URL: u.str("url"), ServerName: lf["server-name"].str("server-name")}
			for _, key := range []string{"ca", "server-name"} {
				if lf[key].exists() && !endpoint.TLS {
					lf[key].fail("the URL of a TLS listener begins with mqtts:// or wss://", "%s does nothing without TLS", key)
				}
			}
			if ca := lf["ca"]; ca.exists() && endpoint.TLS {
				pem, ok := l.file(ca)
				if !ok {
					continue
				}
				listener.CA = x509.NewCertPool()
				if !listener.CA.AppendCertsFromPEM(pem) {
					ca.fail("it must be PEM: -----BEGIN CERTIFICATE-----", "%s holds no certificate", ca.str("ca"))
					continue
				}
			}
			b.Listeners = append(b.Listeners, listener)
		}
	}
	switch s := f["stand-in"]; {
	case s.n != nil && len(b.Listeners) > 0:
		s.fail("", "broker %s is a stand-in or has listeners of its own, not both", e.key)
		return
	case s.n != nil:
		b.StandIn = l.standIn(s)
		b.Intrusive = true // it is ours
		if b.Login != "" && !slices.Contains(b.StandIn.Logins, b.Login) && !b.StandIn.Anonymous {
			f["login"].fail("add it to the stand-in's logins", "the stand-in %s does not know the login %q", e.key, b.Login)
		}
		if b.Anonymous == nil {
			b.Anonymous = &b.StandIn.Anonymous
		}
	case len(b.Listeners) == 0:
		e.at.fail("give it listeners, or 'stand-in: {}'", "broker %s has no listener that could be reached", e.key)
		return
	}
	if ok {
		l.w.Brokers = append(l.w.Brokers, b)
	}
}

// standInSchemes are the URL schemes of a stand-in's listeners.
var standInSchemes = map[string]string{"tcp": "mqtt", "tls": "mqtts", "ws": "ws", "wss": "wss"}

func (l *loader) standIn(n node) *StandIn {
	f := n.fields("stand-in", "the stand-in")
	s := &StandIn{}
	for _, x := range f["listeners"].entries("listeners") {
		scheme, known := standInSchemes[x.key]
		if !known {
			x.at.fail("there are: tcp, tls, ws, wss", "a stand-in has no listener %q", x.key)
			continue
		}
		s.Listeners = append(s.Listeners, Listener{Name: x.key, URL: scheme + "://" + x.value.str("address")})
	}
	if len(s.Listeners) == 0 {
		s.Listeners = []Listener{{Name: "tcp", URL: "mqtt://127.0.0.1:0"}}
	}
	for _, x := range f["logins"].list() {
		if name, ok := x.known("login", l.loginNames()); ok {
			s.Logins = append(s.Logins, name)
		}
	}
	for _, x := range f["faults"].list() {
		name := x.str("fault")
		if err := standin.CheckFault(name); err != nil {
			x.fail("", "%v", err)
			continue
		}
		s.Faults = append(s.Faults, name)
	}
	s.Anonymous = len(s.Logins) == 0
	if a := f["anonymous"].boolean("anonymous"); a != nil {
		s.Anonymous = *a
	}
	return s
}

func (n node) version() (packet.Version, bool) {
	v, err := packet.ParseVersion(n.str("version"))
	if err != nil || v == packet.V31 {
		n.fail("write 3.1.1 or 5", "protocol version %q is not offered here", n.str("version"))
		return 0, false
	}
	return v, true
}

func (l *loader) contract(n node) {
	f := n.fields("contract", "the contract")
	c := l.w.Contract
	for _, e := range f["parties"].entries("parties") {
		pf := e.value.fields("party", "party "+e.key)
		c.Parties = append(c.Parties, contract.Party{Name: e.key, Note: pf["note"].str("note")})
	}
	for _, e := range f["parameters"].entries("parameters") {
		pf := e.value.fields("parameter", "parameter "+e.key)
		p := contract.Parameter{Name: e.key, Values: pf["values"].strings("values")}
		if re := pf["pattern"]; re.exists() {
			compiled, err := regexp.Compile("^(?:" + re.str("pattern") + ")$")
			if err != nil {
				re.fail("", "parameter %s: %v", e.key, err)
				continue
			}
			p.Pattern = compiled
		}
		c.Parameters[e.key] = p
	}
	sites := map[string]node{}
	answers := map[string]node{}
	for _, e := range f["clauses"].entries("clauses") {
		if cl, cf := l.clause(e); cl != nil {
			c.Clauses = append(c.Clauses, cl)
			sites[cl.Name] = cf["topic"]
			answers[cl.Name] = cf["answer"]
			if a, b := c.Overlap(); a != nil {
				sites[a.Name].fail("give one of them another topic, or narrow a parameter",
					"duplicate topic: clause %s covers %s, and so does clause %s", a.Name, a.Topic, b.Name)
				c.Clauses = c.Clauses[:len(c.Clauses)-1]
			}
		}
		if c.Clause(e.key) == nil {
			e.at.r.unsound["clause "+e.key] = true
		}
	}
	for _, cl := range c.Clauses { // clauses may name later ones
		if cl.Answer != nil {
			if _, ok := answers[cl.Name].at("/clause").known("clause", l.clauseNames()); !ok {
				cl.Answer = nil
			}
		}
	}
}

func (l *loader) clause(e entry) (*contract.Clause, map[string]node) {
	c := l.w.Contract
	what := "clause " + e.key
	f := e.value.fields("clause", what)
	line, _ := e.at.position()
	cl := &contract.Clause{Name: e.key, Line: line, Retain: f["retain"].boolean("retain"), Note: f["note"].str("note")}
	ok := f["topic"].exists() && f["payload"].exists()
	if t := f["topic"]; t.exists() {
		var err error
		if cl.Topic, err = contract.ParsePattern(t.str("topic")); err != nil {
			t.fail("", "%v", err)
			ok = false
		}
		for _, p := range cl.Topic.Parameters() {
			if _, defined := c.Parameters[p]; !defined {
				c.Parameters[p] = contract.Parameter{Name: p} // free
			}
		}
	}
	var known bool
	cl.From, known = f["from"].known("party", l.partyNames())
	ok = ok && known
	for _, x := range f["to"].list() {
		p, known := x.known("party", l.partyNames())
		cl.To = append(cl.To, p)
		ok = ok && known
	}
	if q, has := f["qos"].integer("qos", 0, 2); has {
		qos := packet.QoS(q)
		cl.QoS = &qos
	}
	cl.Every = f["every"].cadence()
	if a := f["answer"]; a.exists() {
		af := a.fields("answer", "the answer of "+what)
		cl.Answer = &contract.Answer{Clause: af["clause"].str("clause"), Within: af["within"].duration("within")}
	}
	if p := f["presence"]; p.exists() {
		pf := p.fields("presence", "the presence of "+what)
		cl.Presence = &contract.Presence{Coming: pf["coming"].str("coming"), Leaving: pf["leaving"].str("leaving"), Lost: pf["lost"].str("lost")}
	}
	if p := f["payload"]; p.exists() {
		var good bool
		cl.Payload, good = l.payload(p, e.key)
		ok = ok && good
	}
	if !ok {
		return nil, nil
	}
	return cl, f
}

func (n node) cadence() (c contract.Cadence) {
	if !n.exists() {
		return c
	}
	period, tolerance, both := strings.Cut(n.str("every"), "±")
	var err, err2 error
	c.Period, err = time.ParseDuration(strings.TrimSpace(period))
	if both {
		c.Tolerance, err2 = time.ParseDuration(strings.TrimSpace(tolerance))
	}
	if err != nil || err2 != nil || c.Period <= 0 || c.Tolerance < 0 {
		n.fail("write 12s or 12s ± 3s", "every is no cadence: %q", n.str("every"))
		return contract.Cadence{}
	}
	return c
}

func (l *loader) payload(n node, clause string) (p contract.Payload, ok bool) {
	f := n.fields("payload", "the payload of clause "+clause)
	all := names(payload.Formats, func(x payload.Format) string { return string(x) })
	format, ok := f["format"].known("format", all)
	p = contract.Payload{Format: payload.Format(format), Minimum: f["minimum"].number("minimum"), Maximum: f["maximum"].number("maximum"), Unit: f["unit"].str("unit")}
	for _, e := range f["values"].entries("values") {
		p.Values = append(p.Values, contract.Value{Text: e.key, Meaning: e.value.str("meaning")})
	}
	for key, formats := range map[string]string{"schema": "json", "values": "text", "minimum": "number", "maximum": "number", "unit": "number"} {
		if f[key].exists() && format != formats && ok {
			f[key].fail("", "%s belongs to payloads of format %s, not %s", key, formats, format)
		}
	}
	if s := f["schema"]; s.exists() && format == "json" {
		schema, err := contract.CompileSchema(l.fsys, clause, s.plain())
		if err != nil {
			at := s
			var se *contract.SchemaError
			if errors.As(err, &se) {
				at = s.at(se.Pointer)
			}
			at.fail("schemas are JSON Schema, draft 2020-12", "the schema of clause %s is bad: %v", clause, err)
			return p, false
		}
		p.Schema = schema
	}
	return p, ok && f["format"].exists()
}

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
