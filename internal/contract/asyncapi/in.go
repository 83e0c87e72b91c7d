package asyncapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/payload"
)

// reader turns a document into a contract's mapping.
type reader struct {
	doc        expression.Object
	notes      []string
	parties    object
	parameters object
	clauses    object
}

// note tells of something that was not taken over.
func (r *reader) note(format string, args ...any) {
	r.notes = append(r.notes, fmt.Sprintf(format, args...))
}

// In reads a document of AsyncAPI 3.0 or 2.6, a mapping in its order, as the mapping of a contract. Notes tell what was
// not taken over, and why. The error says why it is no such document.
func In(doc any) (mapping expression.Object, notes []string, err error) {
	o, is := doc.(expression.Object)
	version := text(get(o, "asyncapi"))
	switch {
	case !is || version == "":
		return nil, nil, errors.New("this is no AsyncAPI document: it has no key asyncapi")
	case !strings.HasPrefix(version, "3.") && !strings.HasPrefix(version, "2."):
		return nil, nil, fmt.Errorf("AsyncAPI %s is not known here: 3.0 and 2.6 are", version)
	}
	r := reader{doc: o}
	for _, m := range list(get(o, keyParties)) {
		r.parties.put(m.Key, m.Value)
	}
	if strings.HasPrefix(version, "3.") {
		r.three()
	} else {
		r.two()
	}
	var out object
	out.some("parties", r.parties.Object)
	out.some("parameters", r.allParameters())
	out.some("clauses", r.clauses.Object)
	out.some("relations", get(o, keyRelations))
	out.some("accepted", get(o, keyAccepted))
	return out.Object, r.notes, nil
}

// allParameters are those of the channels, in the spelling of the document's own list where it has one.
func (r *reader) allParameters() expression.Object {
	var out object
	for _, m := range list(get(r.doc, keyParameters)) {
		if !r.parameters.has(m.Key) {
			r.parameters.put(m.Key, m.Value)
		}
	}
	slices.SortFunc(r.parameters.Object, func(a, b expression.Member) int { return strings.Compare(a.Key, b.Key) })
	for _, m := range r.parameters.Object {
		if o, is := m.Value.(expression.Object); is && len(o) > 0 {
			out.put(m.Key, o)
		}
	}
	return out.Object
}

func text(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	}
	return ""
}

func list(v any) expression.Object {
	o, _ := v.(expression.Object)
	return o
}

// at is the place of the document to which a reference leads: a JSON Pointer as the fragment of a URI (RFC 6901 §6).
func (r *reader) at(reference string) (any, bool) {
	fragment, local := strings.CutPrefix(reference, "#")
	pointer, err := url.PathUnescape(fragment)
	if err != nil || !local {
		return nil, false
	}
	return payload.At(r.doc, pointer)
}

// resolve follows references within the document.
func (r *reader) resolve(v any) any {
	for range 20 {
		to, is := get(v, "$ref").(string)
		if !is {
			return v
		}
		found, ok := r.at(to)
		if !ok {
			r.note("the reference %s leads nowhere within the document", to)
			return expression.Object{}
		}
		v = found
	}
	return expression.Object{}
}

var notWord = regexp.MustCompile(`[^a-z0-9]+`)

// application is the party that a document speaks for where its operations do not say.
func (r *reader) application() string {
	s := strings.Trim(notWord.ReplaceAllString(strings.ToLower(text(get(get(r.doc, "info"), "title"))), "-"), "-")
	if s == "" {
		return "application"
	}
	return s
}

// party makes sure that the contract has a party.
func (r *reader) party(name string) string {
	if !r.parties.has(name) {
		r.parties.put(name, expression.Object{})
	}
	return name
}

// side is what the operations of a channel say.
type side struct {
	from        string
	to          []string
	qos, retain any
	expiry      any
	note        string
}

func (s *side) bind(mqtt any, sends bool) {
	if q := get(mqtt, "qos"); q != nil && (s.qos == nil || sends) {
		s.qos = q
	}
	if x := get(mqtt, "retain"); x != nil && (s.retain == nil || sends) {
		s.retain = x
	}
	if x := get(mqtt, "messageExpiryInterval"); x != nil && (s.expiry == nil || sends) {
		s.expiry = x
	}
}

// three reads a document of version 3.
func (r *reader) three() {
	sides := map[string]*side{}
	channels := list(get(r.doc, "channels"))
	for _, m := range list(get(r.doc, "operations")) {
		op := r.merged(m.Value)
		key := r.channelKey(get(op, "channel"))
		if key == "" {
			r.note("operation %s: its channel is not one of the document's", m.Key)
			continue
		}
		s := sides[key]
		if s == nil {
			s = &side{}
			sides[key] = s
		}
		who := ""
		tags, _ := get(op, "tags").([]any)
		for _, tag := range tags {
			if x := r.resolve(tag); text(get(x, "description")) == isParty {
				who = text(get(x, "name"))
			}
		}
		own := get(r.doc, keyParties) == nil && who == ""
		if own {
			who = r.application()
		}
		sends := text(get(op, "action")) == "send"
		switch {
		case who == "":
		case sends && s.from == "":
			s.from = r.party(who)
		case sends && s.from != who:
			r.note("operation %s: %s sends on %s too, and a clause has one publisher", m.Key, who, key)
		case !sends && !slices.Contains(s.to, who):
			s.to = append(s.to, r.party(who))
		}
		if get(op, "reply") != nil {
			r.note("operation %s: its reply is not taken over; add answer: to the clause", m.Key)
		}
		s.bind(r.resolve(get(r.resolve(get(op, "bindings")), "mqtt")), sends)
		if s.note == "" {
			s.note = text(get(op, "description"))
		}
		if s.note == "" {
			s.note = text(get(op, "summary"))
		}
	}
	for _, m := range channels {
		ch := r.resolve(m.Value)
		s := sides[m.Key]
		if s == nil {
			s = &side{}
		}
		address := text(get(ch, "address"))
		if address == "" {
			r.note("channel %s has no address", m.Key)
			continue
		}
		name := text(get(ch, keyName))
		if name == "" {
			name = m.Key
		}
		for i, msg := range list(get(ch, "messages")) {
			if i > 0 {
				r.note("channel %s: of its messages only the first is taken over, not %s", m.Key, msg.Key)
				continue
			}
			r.clause(name, address, ch, r.merged(msg.Value), s)
		}
		if len(list(get(ch, "messages"))) == 0 {
			r.clause(name, address, ch, expression.Object{}, s)
		}
	}
}

// merged is an operation or a message with its traits; what it says itself counts.
func (r *reader) merged(v any) expression.Object {
	o := list(r.resolve(v))
	traits, _ := get(o, "traits").([]any)
	for _, t := range traits {
		for _, m := range list(r.resolve(t)) {
			if get(o, m.Key) == nil {
				o = append(slices.Clone(o), m)
			}
		}
	}
	return o
}

// channelKey is the key of the channel that a reference leads to, by way of others.
func (r *reader) channelKey(v any) string {
	for range 20 {
		to, _ := get(v, "$ref").(string)
		if key, is := strings.CutPrefix(to, "#/channels/"); is {
			if plain, err := url.PathUnescape(key); err == nil {
				key = plain
			}
			return strings.NewReplacer("~1", "/", "~0", "~").Replace(key)
		}
		found, ok := r.at(to)
		if !ok {
			return ""
		}
		v = found
	}
	return ""
}

// two reads a document of version 2: its operations say what others do towards the application.
func (r *reader) two() {
	taken := keys{}
	for _, m := range list(get(r.doc, "channels")) {
		ch := list(r.resolve(m.Value))
		s := &side{note: text(get(ch, "description"))}
		var msg expression.Object
		name := ""
		for _, verb := range []string{"subscribe", "publish"} {
			if get(ch, verb) == nil {
				continue
			}
			op := r.merged(get(ch, verb))
			sends := verb == "subscribe" // who subscribes gets what the application sends
			if sends {
				s.from = r.party(r.application())
			} else {
				s.to = append(s.to, r.party(r.application()))
			}
			s.bind(r.resolve(get(r.resolve(get(op, "bindings")), "mqtt")), sends)
			if name == "" {
				name = text(get(op, "operationId"))
			}
			if s.note == "" {
				s.note = text(get(op, "description"))
			}
			if s.note == "" {
				s.note = text(get(op, "summary"))
			}
			found := r.merged(get(op, "message"))
			if several, is := get(found, "oneOf").([]any); is && len(several) > 0 {
				if found = r.merged(several[0]); len(several) > 1 {
					r.note("channel %s: of its %d messages only the first is taken over", m.Key, len(several))
				}
			}
			if len(msg) == 0 {
				msg = found
			}
		}
		if name == "" {
			name = strings.Trim(strings.NewReplacer("/", ".", "{", "", "}", "").Replace(m.Key), ".")
		}
		r.clause(taken.of(name), m.Key, ch, msg, s)
	}
}

var braces = regexp.MustCompile(`\{([^{}]*)\}`)

// clause adds a clause of a channel and its message.
func (r *reader) clause(name, address string, ch any, msg expression.Object, s *side) {
	if strings.ContainsAny(address, "+#") {
		r.note("channel %s: the address %s has a wildcard, and a clause names its levels: {like-this}", name, address)
		return
	}
	for l := range strings.SplitSeq(address, "/") {
		if strings.ContainsAny(l, "{}") && !braces.MatchString(l) ||
			braces.MatchString(l) && braces.FindString(l) != l {
			r.note("channel %s: a parameter of %s does not fill a whole level; it is not taken over", name, address)
			return
		}
	}
	described := list(get(ch, "parameters"))
	for _, m := range braces.FindAllStringSubmatch(address, -1) {
		r.parameter(m[1], r.resolve(get(described, m[1])))
	}
	var c object
	c.put("topic", address)
	c.some("from", s.from)
	switch len(s.to) {
	case 0:
	case 1:
		c.put("to", s.to[0])
	default:
		var all []any
		for _, x := range s.to {
			all = append(all, x)
		}
		c.put("to", all)
	}
	c.some("qos", s.qos)
	c.some("retain", s.retain)
	agreed := list(get(ch, keyAgreed))
	for _, key := range []string{"every", "at-most", "only", "answer", "presence", "message-expiry", "properties", "stamped", "survives-restart", "repeat"} {
		if key == "message-expiry" && s.expiry != nil {
			if n, err := strconv.Atoi(text(s.expiry)); err == nil && n > 0 {
				c.put(key, seconds(n))
			} else {
				r.note("channel %s: its message expiry interval is no number of seconds", name)
			}
			continue
		}
		c.some(key, get(agreed, key))
	}
	c.put("payload", r.payload(name, msg))
	var examples []any
	given, _ := get(msg, "examples").([]any)
	for _, x := range given {
		if v := get(r.resolve(x), "payload"); v != nil {
			examples = append(examples, v)
		}
	}
	c.some("examples", examples)
	c.some("counter-examples", get(msg, keyCounter))
	note := text(get(ch, "description"))
	if note == "" {
		note = s.note
	}
	c.some("note", note)
	r.clauses.put(name, c.Object)
}

// seconds writes a number of seconds as a duration without needless zeros.
func seconds(n int) string {
	var b strings.Builder
	for _, u := range []struct {
		n    int
		name string
	}{{3600, "h"}, {60, "m"}, {1, "s"}} {
		if n >= u.n {
			fmt.Fprintf(&b, "%d%s", n/u.n, u.name)
			n %= u.n
		} else if u.name == "m" && b.Len() > 0 && n > 0 {
			b.WriteString("0m")
		}
	}
	return b.String()
}

// parameter adds a parameter of a channel.
func (r *reader) parameter(name string, v any) {
	if r.parameters.has(name) {
		return
	}
	var p object
	own := list(get(get(r.doc, keyParameters), name))
	enum, _ := get(v, "enum").([]any)
	if schema := r.resolve(get(v, "schema")); schema != nil { // version 2
		enum, _ = get(schema, "enum").([]any)
		p.some("pattern", get(schema, "pattern"))
	}
	if len(own) > 0 {
		p.Object = own
	} else {
		var values []any
		for _, x := range enum {
			values = append(values, text(x))
		}
		if get(v, keyRange) == nil {
			p.some("values", values)
		}
		p.some("pattern", get(v, keyPattern))
		p.some("range", get(v, keyRange))
		p.some("note", get(v, "description"))
	}
	r.parameters.put(name, notNil(p.Object))
}

// payload makes a payload of a message.
func (r *reader) payload(name string, msg expression.Object) expression.Object {
	contentType := text(get(msg, "contentType"))
	if contentType == "" {
		contentType = text(get(r.doc, "defaultContentType"))
	}
	schema := get(msg, "payload")
	own := ""
	if to, is := get(schema, "$ref").(string); is {
		own, schema = to, r.resolve(schema)
	}
	format := text(get(msg, "schemaFormat")) // version 2
	if inner := get(schema, "schema"); inner != nil && get(schema, "schemaFormat") != nil {
		format, schema = text(get(schema, "schemaFormat")), inner
		if own != "" {
			own += "/schema"
		}
	}
	if format != "" && !strings.Contains(format, "schema+json") && !strings.Contains(format, "aai.asyncapi") &&
		!strings.Contains(format, "schema+yaml") {
		r.note("channel %s: its schema is of format %s, which is not taken over", name, format)
		schema = nil
	}
	var p object
	extra := list(get(msg, keyPayload))
	kind := typeFormat(contentType, schema)
	if said := text(get(extra, "format")); said != "" {
		kind = payload.Format(said)
	}
	if kind == payload.Protobuf && get(extra, "file") == nil ||
		kind == payload.XML && len(extra) == 0 && schema != nil {
		r.note("channel %s: its %s payload is taken over as bytes; add what is known of it", name, kind)
		kind = payload.Binary
	}
	p.put("format", string(kind))
	switch kind {
	case payload.Number:
		for _, key := range []string{"minimum", "maximum", "unit"} {
			p.some(key, get(schema, key))
		}
	case payload.Text:
		p.some("pattern", get(schema, "pattern"))
		p.some("values", textValues(schema))
	case payload.JSON, payload.CBOR, payload.MessagePack, payload.Protobuf:
		if schema != nil {
			p.put("schema", r.schema(schema, own))
		}
	case payload.Binary:
		if contentType != contentTypes[payload.Binary] {
			p.some("media-type", contentType)
		}
	}
	for _, m := range extra {
		if m.Key != "format" {
			p.put(m.Key, m.Value)
		}
	}
	return p.Object
}

// textValues are the texts that a schema lists.
func textValues(schema any) expression.Object {
	var out object
	if each, is := get(schema, "oneOf").([]any); is {
		for _, x := range each {
			if v, is := get(x, "const").(string); is {
				out.put(v, text(get(x, "description")))
			}
		}
	}
	if each, is := get(schema, "enum").([]any); is {
		for _, x := range each {
			out.put(text(x), "")
		}
	}
	return out.Object
}

// schema is a schema of the document's by itself: what it refers to elsewhere in the document stands under its $defs.
func (r *reader) schema(v any, own string) any {
	if own != "" {
		v = rebase(v, own, "#")
	}
	names := map[string]string{}
	var defs object
	for _, m := range list(get(v, "$defs")) {
		defs.put(m.Key, nil) // taken
	}
	n := len(defs.Object)
	var walk func(v any) any
	walk = func(v any) any {
		return contract.References(v, func(_, to string) string {
			key, component := strings.CutPrefix(to, "#/components/")
			if !component {
				return to
			}
			name, known := names[to]
			if !known {
				name = key[strings.LastIndex(key, "/")+1:]
				for defs.has(name) {
					name += "_"
				}
				names[to] = name
				place := len(defs.Object)
				defs.put(name, nil)
				defs.Object[place].Value = walk(r.resolve(expression.Object{{Key: "$ref", Value: to}}))
			}
			return "#/$defs/" + name
		})
	}
	out := walk(v)
	o, is := out.(expression.Object)
	if fresh := defs.Object[n:]; is && len(fresh) > 0 {
		for i, m := range o {
			if m.Key == "$defs" {
				o[i].Value = append(list(m.Value), fresh...)
				return o
			}
		}
		return append(o, expression.Member{Key: "$defs", Value: fresh})
	}
	return out
}
