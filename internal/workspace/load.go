package workspace

import (
	"crypto/tls"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
	"hodstone/internal/trust"
)

// loader fills a workspace from nodes.
type loader struct {
	w     *Workspace
	fsys  fs.FS
	files map[string]string // hashes of those that were read, by name
}

// section notes what defines a part: its text, and what the files hold that were read for it.
func (l *loader) section(part string, n node, before map[string]string) {
	text := ""
	if n.n != nil {
		text = n.n.String()
	}
	for _, name := range slices.Sorted(maps.Keys(l.files)) {
		if _, known := before[name]; !known {
			text += "\x00" + name + l.files[name]
		}
	}
	l.w.sections[part] = text
}

func (l *loader) load(root node) {
	f := root.fields("workspace", "the workspace")
	if v := f["hodstone"]; v.exists() && v.str("hodstone") != "1" {
		v.fail("this program reads version 1", "version %q of the language is not known", v.str("hodstone"))
	}
	l.w.Name = f["name"].str("name")
	l.w.Credentials = f["credentials"].strings("credentials")
	for _, e := range f["logins"].entries("logins") {
		l.login(e)
		l.section("login "+e.key, e.value, nil)
	}
	for _, e := range f["brokers"].entries("brokers") {
		l.broker(e)
		if l.section("broker "+e.key, e.value, nil); l.w.Broker(e.key) == nil {
			root.r.unsound["broker "+e.key] = true
		}
	}
	before := maps.Clone(l.files)
	l.contract(f["contract"])
	l.section("contract", f["contract"], before)
	before = maps.Clone(l.files)
	for _, e := range f["devices"].entries("devices") {
		l.device(e)
		l.section("device "+e.key, e.value, before)
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
	if t := f["token"]; t.exists() {
		login.Token, login.HasToken = l.secret(t, "the token of login "+e.key)
		if login.HasPassword {
			t.fail(
				"leave one of them out",
				"login %s has a password and a token; both go into the same field of CONNECT",
				e.key,
			)
		}
	}
	if m := f["method"]; m.exists() {
		_, err := auth.NewSCRAM(login.Username, login.Password.Reveal())
		switch {
		case m.str("method") != auth.SCRAMSHA256:
			m.fail("there is "+auth.SCRAMSHA256, "the authentication method %q is not known", m.str("method"))
		case err != nil:
			m.fail("", "%v", err)
		default:
			login.SCRAM = true
		}
	}
	if c := f["certificate"]; c.exists() {
		login.Certificate = l.certificate(c, f["key"], f["passphrase"])
	} else if k := f["key"]; k.exists() {
		k.fail("add certificate: FILE", "login %s has a key but no certificate", e.key)
	}
	l.w.Logins = append(l.w.Logins, login)
}

// certificate reads a client's certificate and key from files.
func (l *loader) certificate(c, k, pass node) *tls.Certificate {
	chain, ok := l.file(c)
	if !ok {
		return nil
	}
	var key []byte
	if k.exists() {
		if key, ok = l.file(k); !ok {
			return nil
		}
	}
	passphrase := Secret{}
	if pass.exists() {
		if passphrase, ok = l.secret(pass, "the passphrase"); !ok {
			return nil
		}
	}
	pair, err := trust.Pair(chain, key, passphrase.Reveal())
	if err != nil {
		at, hint := c, "'hodstone trust FOLDER' tells what the files are and which belong together"
		if !k.exists() {
			hint = "add key: FILE"
		}
		var locked *trust.LockedError
		if errors.As(err, &locked) {
			if k.exists() {
				at = k
			}
			hint = "give passphrase: {env: NAME} or {file: path}"
		}
		at.fail(hint, "certificate and key cannot be used: %v", err)
		return nil
	}
	return &pair
}

// file reads a file beside the workspace that a node names.
func (l *loader) file(n node) ([]byte, bool) {
	if name := path.Clean(n.str("file")); !slices.Contains(l.w.TrustFiles, name) {
		l.w.TrustFiles = append(l.w.TrustFiles, name)
	}
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
			entries[0].value.fail(
				"set it before starting Hodstone: export "+where+"=…",
				"%s is missing: the environment variable %s is not set",
				what,
				where,
			)
		}
		return NewSecret(v), ok
	default:
		b, err := fs.ReadFile(l.fsys, path.Clean(where))
		if err != nil {
			entries[0].value.fail(
				"the path is relative to the workspace's folder",
				"%s is missing: %s cannot be read",
				what,
				where,
			)
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
	if id := f["client-id"]; id.exists() {
		if b.ClientID = id.str("client-id"); !strings.Contains(b.ClientID, "{n}") {
			id.fail(
				`write one such as "s-{n}"`,
				"client-id %q has no {n}: all of Hodstone's clients would share it, and throw each other out",
				b.ClientID,
			)
			b.ClientID = ""
		}
	}
	if a := f["accepted"]; a.exists() {
		b.Accepted = map[string]string{}
		af := a.fields("accepted", "what is accepted at broker "+e.key)
		for door, d := range af {
			if reason := d.str(door); reason == "" || reason == "true" {
				d.fail("write why, in a few words", "%s is accepted without a reason", door)
			} else {
				b.Accepted[door] = reason
			}
		}
	}
	for _, x := range f["listeners"].entries("listeners") {
		lf := x.value.fields("listener", "listener "+x.key)
		if u := lf["url"]; u.exists() {
			endpoint, err := link.Parse(u.str("url"))
			if err != nil {
				u.fail("write mqtt://HOST or mqtt://HOST:PORT", "%v", err)
				continue
			}
			listener := Listener{Name: x.key, URL: u.str("url"), ServerName: lf["server-name"].str("server-name")}
			listener.Line, _ = x.at.position()
			for _, key := range []string{"ca", "server-name"} {
				if lf[key].exists() && !endpoint.TLS {
					lf[key].fail(
						"the URL of a TLS listener begins with mqtts:// or wss://",
						"%s does nothing without TLS",
						key,
					)
				}
			}
			if ca := lf["ca"]; ca.exists() && endpoint.TLS {
				data, ok := l.file(ca)
				if !ok {
					continue
				}
				var err error
				if listener.CA, err = trust.CAs(data); err != nil {
					ca.fail("'hodstone trust FILE' tells what it is", "%s holds no certificate: %v", ca.str("ca"), err)
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
			f["login"].fail(
				"add it to the stand-in's logins",
				"the stand-in %s does not know the login %q",
				e.key,
				b.Login,
			)
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
		line, _ := x.at.position()
		s.Listeners = append(
			s.Listeners,
			Listener{Name: x.key, URL: scheme + "://" + x.value.str("address"), Line: line},
		)
	}
	if len(s.Listeners) == 0 {
		s.Listeners = []Listener{{Name: "tcp", URL: "mqtt://127.0.0.1:0"}}
	}
	for _, x := range f["logins"].list() {
		if name, ok := x.known("login", l.loginNames()); ok {
			s.Logins = append(s.Logins, name)
		}
	}
	for _, x := range f["rights"].entries("rights") {
		rf := x.value.fields("rights", "the rights of "+x.key)
		r := Rights{Logins: x.key, Publish: rf["publish"].filters(), Subscribe: rf["subscribe"].filters()}
		if !slices.ContainsFunc(s.Logins, func(name string) bool { ok, _ := path.Match(x.key, name); return ok }) {
			x.at.fail(suggest(x.key, s.Logins), "no login of the stand-in is called %q", x.key)
			continue
		}
		s.Rights = append(s.Rights, r)
	}
	if lim := f["limits"]; lim.exists() {
		s.Limits = lim.limits()
	}
	if own := f["own-tls"]; own.exists() {
		s.OwnTLS = l.ownTLS(own)
		if c := f["certificate"]; c.exists() {
			c.fail(
				"leave one of them out",
				"the stand-in has a certificate of your own; what is wrong with it is up to you",
			)
		}
	}
	if c := f["certificate"]; c.exists() {
		if s.Certificate = c.str("certificate"); !slices.Contains(CertificateFlaws, s.Certificate) {
			c.fail("there are: "+strings.Join(CertificateFlaws, ", "), "a certificate cannot be %q", s.Certificate)
			s.Certificate = ""
		}
	}
	for _, x := range f["faults"].list() {
		name := x.str("fault")
		if _, err := fault.Find(name); err != nil {
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

// ownTLS reads the user's own certificate of a stand-in; nil where it cannot be used.
func (l *loader) ownTLS(n node) *OwnTLS {
	f := n.fields("own-tls", "the stand-in's own certificate")
	pair := l.certificate(f["certificate"], f["key"], f["passphrase"])
	data, ok := l.file(f["ca"])
	if pair == nil || !ok {
		return nil
	}
	cas, err := trust.CAs(data)
	if err != nil {
		f["ca"].fail("'hodstone trust FILE' tells what it is", "%s holds no certificate: %v", f["ca"].str("ca"), err)
		return nil
	}
	return &OwnTLS{*pair, cas}
}

// CertificateFlaws are what can be wrong with a stand-in's certificate on purpose.
var CertificateFlaws = []string{"expired", "wrong-name", "incomplete"}

// filters reads a list of topic filters; an empty list is not nil.
func (n node) filters() []string {
	if !n.exists() {
		return nil
	}
	out := []string{}
	for _, x := range n.list() {
		if err := topic.CheckFilter(x.str("filter")); err != nil {
			x.fail("", "%v", err)
			continue
		}
		out = append(out, x.str("filter"))
	}
	return out
}

// limits reads a stand-in's limits.
func (n node) limits() (l standin.Limits) {
	f := n.fields("limits", "the limits")
	if q, has := f["maximum-qos"].integer("maximum-qos", 0, 1); has {
		qos := packet.QoS(q)
		l.MaximumQoS = &qos
	}
	off := func(key string) bool {
		b := f[key].boolean(key)
		return b != nil && !*b
	}
	l.NoRetained, l.NoWildcards = off("retain-available"), off("wildcard-subscription-available")
	l.NoIdentifiers, l.NoShared = off("subscription-identifiers-available"), off("shared-subscription-available")
	l.NoEmptyClientID = off("empty-client-id")
	l.MaximumPacketSize, _ = f["maximum-packet-size"].integer("maximum-packet-size", 64, 8<<20)
	l.ReceiveMaximum, _ = f["receive-maximum"].integer("receive-maximum", 1, 65535)
	l.Connections, _ = f["connections"].integer("connections", 1, 1_000_000)
	l.ServerKeepAlive = int(f["server-keep-alive"].duration("server-keep-alive") / time.Second)
	l.Redirect = f["server-reference"].str("server-reference")
	if re := f["client-id"]; re.exists() {
		compiled, err := regexp.Compile("^(?:" + re.str("client-id") + ")$")
		if err != nil {
			re.fail("", "the rule for client identifiers cannot be read: %v", err)
		} else {
			l.ClientID = compiled
		}
	}
	return l
}

func (n node) version() (packet.Version, bool) {
	v, err := packet.ParseVersion(n.str("version"))
	if err != nil {
		n.fail("write 3.1, 3.1.1 or 5", "protocol version %q is not known", n.str("version"))
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
	answers := map[string]node{}
	for _, e := range f["clauses"].entries("clauses") {
		if cl, cf := l.clause(e); cl != nil {
			answers[cl.Name] = cf["answer"]
			if other := c.Overlap(cl); other != nil {
				cf["topic"].fail("give one of them another topic, or narrow a parameter",
					"duplicate topic: clause %s covers %s, and so does clause %s", cl.Name, cl.Topic, other.Name)
			} else {
				c.Clauses = append(c.Clauses, cl)
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
		cl.Presence = &contract.Presence{
			Coming:  pf["coming"].str("coming"),
			Leaving: pf["leaving"].str("leaving"),
			Lost:    pf["lost"].str("lost"),
		}
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
	all := names(payload.Formats(), func(x payload.Format) string { return string(x) })
	format, ok := f["format"].known("format", all)
	p = contract.Payload{
		Format:  payload.Format(format),
		Minimum: f["minimum"].number("minimum"),
		Maximum: f["maximum"].number("maximum"),
		Unit:    f["unit"].str("unit"),
	}
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
