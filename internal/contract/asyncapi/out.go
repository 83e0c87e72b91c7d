// Package asyncapi writes contracts as AsyncAPI 3.0 documents with MQTT bindings, and reads such documents, and those
// of AsyncAPI 2.6, as contracts. What the standard has a key for stands under that key; the rest stands under keys of
// its own, which begin with x-, so that nothing is lost on the way out and back.
package asyncapi

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/payload"
)

// Version is that of the documents that are written.
const Version = "3.0.0"

// bindings is the version of the MQTT bindings that are used.
const bindings = "0.2.0"

// isParty is the description of a tag that names a party.
const isParty = "party"

// The keys of extensions.
const (
	keyParties    = "x-parties"
	keyParameters = "x-parameters"
	keyRelations  = "x-relations"
	keyAccepted   = "x-accepted"
	keyName       = "x-name"    // of a clause, where its key in the document had to be another
	keyAgreed     = "x-agreed"  // of a channel: cadence, answer, presence and the like
	keyPayload    = "x-payload" // of a message: what its schema cannot say
	keyCounter    = "x-counter-examples"
	keyRange      = "x-range"
	keyPattern    = "x-pattern"
)

// The content types of formats that have one.
var contentTypes = map[payload.Format]string{
	payload.JSON:        "application/json",
	payload.CBOR:        "application/cbor",
	payload.MessagePack: "application/vnd.msgpack",
	payload.XML:         "application/xml",
	payload.Protobuf:    "application/vnd.google.protobuf",
	payload.Text:        "text/plain",
	payload.Number:      "text/plain",
	payload.Binary:      "application/octet-stream",
}

// schemaFormat says that a schema is one of JSON Schema 2020-12, where tools would else take it for an older one.
const schemaFormat = "application/schema+json;version=2020-12"

// object builds a JSON object in its order.
type object struct{ expression.Object }

func (o *object) put(key string, v any) {
	o.Object = append(o.Object, expression.Member{Key: key, Value: v})
}

func (o *object) some(key string, v any) {
	switch x := v.(type) {
	case string:
		if x == "" {
			return
		}
	case expression.Object:
		if len(x) == 0 {
			return
		}
	case []any:
		if len(x) == 0 {
			return
		}
	case nil:
		return
	}
	o.put(key, v)
}

func (o *object) has(key string) bool {
	return slices.ContainsFunc(o.Object, func(m expression.Member) bool { return m.Key == key })
}

var (
	strange = regexp.MustCompile(`[^A-Za-z0-9._-]`)
	plainID = regexp.MustCompile(`^[A-Za-z0-9._-]+$`)
)

// keys gives names keys that the standard allows, each another.
type keys map[string]bool

func (k keys) of(name string) string {
	key := strange.ReplaceAllString(name, "_")
	for i := 2; key == "" || k[key]; i++ {
		key = fmt.Sprintf("%s_%d", strange.ReplaceAllString(name, "_"), i)
	}
	k[key] = true
	return key
}

func ref(parts ...string) expression.Object {
	return expression.Object{{Key: "$ref", Value: "#" + payload.Pointer(parts...)}}
}

// Out is the contract as an AsyncAPI document; title names what it is about.
func Out(c *contract.Contract, title string) expression.Object {
	var doc, channels, operations, messages, schemas object
	doc.put("asyncapi", Version)
	doc.put("info", expression.Object{{Key: "title", Value: title}, {Key: "version", Value: "1"}})
	doc.put("defaultContentType", "application/json")
	taken, operationKeys := keys{}, keys{}
	for _, cl := range c.Clauses {
		key := taken.of(cl.Name)
		channels.put(key, channel(c, cl, key))
		// Without a publisher it stands there all the same: QoS and the retain flag have their place there.
		operations.put(operationKeys.of(strings.TrimPrefix(cl.From+".", ".")+key), operation(cl, key, cl.From, true))
		for _, who := range cl.To {
			operations.put(operationKeys.of(who+"."+key), operation(cl, key, who, false))
		}
		m, schema := message(cl, key)
		messages.put(key, m)
		if schema != nil {
			schemas.put(key, schema)
		}
	}
	doc.put("channels", channels.Object)
	doc.put("operations", operations.Object)
	doc.put("components", expression.Object{{Key: "schemas", Value: notNil(schemas.Object)}, {Key: "messages", Value: notNil(messages.Object)}})
	whole := c.Tree()
	for _, m := range whole {
		switch m.Key {
		case "parties":
			doc.some(keyParties, m.Value)
		case "parameters":
			doc.some(keyParameters, m.Value)
		case "relations":
			doc.some(keyRelations, m.Value)
		case "accepted":
			doc.some(keyAccepted, m.Value)
		}
	}
	return doc.Object
}

func notNil(o expression.Object) expression.Object {
	if o == nil {
		return expression.Object{}
	}
	return o
}

// channel is a clause's topic.
func channel(c *contract.Contract, cl *contract.Clause, key string) expression.Object {
	var ch, parameters object
	ch.put("address", cl.Topic.String())
	ch.some("description", cl.Note)
	ch.put("messages", expression.Object{{Key: key, Value: ref("components", "messages", key)}})
	for _, name := range cl.Topic.Parameters() {
		p := c.Parameters[name]
		var o object
		o.some("description", p.Note)
		var values []any
		for _, v := range p.Listed() {
			values = append(values, v)
		}
		if len(values) <= 200 {
			o.some("enum", values)
		}
		if p.Range != nil {
			o.put(keyRange, p.Range.String())
		}
		o.some(keyPattern, p.PatternText())
		parameters.put(name, notNil(o.Object))
	}
	ch.some("parameters", parameters.Object)
	if !plainID.MatchString(cl.Name) || key != cl.Name {
		ch.put(keyName, cl.Name)
	}
	var agreed object
	for _, m := range cl.Agreed() {
		if m.Key != "message-expiry" || cl.Expiry%time.Second != 0 {
			agreed.put(m.Key, m.Value)
		}
	}
	ch.some(keyAgreed, agreed.Object)
	return ch.Object
}

// operation is what a party does on a clause's topic: it publishes, or it consumes.
func operation(cl *contract.Clause, key, party string, sends bool) expression.Object {
	var o, mqtt object
	action := "receive"
	if sends {
		action = "send"
	}
	o.put("action", action)
	o.put("channel", ref("channels", key))
	if party != "" {
		o.put("tags", []any{expression.Object{{Key: "name", Value: party}, {Key: "description", Value: isParty}}})
	}
	if cl.QoS != nil {
		mqtt.put("qos", int(*cl.QoS))
	}
	if cl.Retain != nil && sends {
		mqtt.put("retain", *cl.Retain)
	}
	if cl.Expiry > 0 && sends {
		mqtt.put("messageExpiryInterval", int(cl.Expiry/time.Second))
	}
	if len(mqtt.Object) > 0 {
		mqtt.put("bindingVersion", bindings)
		o.put("bindings", expression.Object{{Key: "mqtt", Value: mqtt.Object}})
	}
	return o.Object
}

// message is what a clause carries, and the schema of it.
func message(cl *contract.Clause, key string) (m expression.Object, schema any) {
	var o, extra object
	p := &cl.Payload
	o.put("name", cl.Name)
	contentType := contentTypes[p.Format]
	if p.MediaType != "" {
		contentType = p.MediaType
	}
	o.put("contentType", contentType)
	schema = schemaOf(p)
	if schema != nil {
		at := []string{"components", "schemas", key}
		if newer(schema) {
			schema = rebase(schema, "#", "#"+payload.Pointer(append(at, "schema")...))
			schema = expression.Object{{Key: "schemaFormat", Value: schemaFormat}, {Key: "schema", Value: schema}}
		} else {
			schema = rebase(schema, "#", "#"+payload.Pointer(at...))
		}
		o.put("payload", ref(at...))
	}
	var examples []any
	for i, x := range cl.Examples {
		v := x.Value
		examples = append(examples, expression.Object{{Key: "name", Value: fmt.Sprintf("example_%d", i+1)}, {Key: "payload", Value: v}})
	}
	o.some("examples", examples)
	for _, w := range p.Tree() {
		if !inSchema(p, w.Key) {
			extra.put(w.Key, w.Value)
		}
	}
	if said := p.Format; typeFormat(contentType, schema) != said {
		extra.Object = append(expression.Object{{Key: "format", Value: string(said)}}, extra.Object...)
	}
	o.some(keyPayload, extra.Object)
	for _, t := range cl.Tree() {
		if t.Key == "counter-examples" {
			o.put(keyCounter, t.Value)
		}
	}
	return o.Object, schema
}

// inSchema tells whether what a payload says under a key is said by its schema and content type.
func inSchema(p *contract.Payload, key string) bool {
	switch key {
	case "format", "media-type", "schema":
		return true
	case "minimum", "maximum", "unit":
		return p.Format == payload.Number
	case "values", "pattern":
		return p.Format == payload.Text
	}
	return false
}

// typeFormat is the format that a content type stands for.
func typeFormat(contentType string, schema any) payload.Format {
	kind, _, _ := strings.Cut(strings.ToLower(contentType), ";")
	switch kind = strings.TrimSpace(kind); {
	case kind == "application/json", strings.HasSuffix(kind, "+json"):
		return payload.JSON
	case kind == "application/cbor", strings.HasSuffix(kind, "+cbor"):
		return payload.CBOR
	case kind == "application/vnd.msgpack", kind == "application/msgpack", kind == "application/x-msgpack":
		return payload.MessagePack
	case kind == "application/xml", kind == "text/xml", strings.HasSuffix(kind, "+xml"):
		return payload.XML
	case strings.Contains(kind, "protobuf"):
		return payload.Protobuf
	case strings.HasPrefix(kind, "text/"):
		if t, _ := get(schema, "type").(string); t == "number" || t == "integer" {
			return payload.Number
		}
		return payload.Text
	case kind == "":
		return payload.JSON
	}
	return payload.Binary
}

// schemaOf is the schema of a payload; nil where there is nothing to say.
func schemaOf(p *contract.Payload) any {
	var o object
	switch p.Format {
	case payload.Number:
		o.put("type", "number")
		for _, w := range p.Written {
			if w.Key == "minimum" || w.Key == "maximum" || w.Key == "unit" {
				o.put(w.Key, w.Value)
			}
		}
		return o.Object
	case payload.Text:
		o.put("type", "string")
		for _, w := range p.Written {
			switch w.Key {
			case "pattern":
				o.put("pattern", w.Value)
			case "values":
				var each []any
				list, _ := w.Value.(expression.Object)
				for _, v := range list {
					one := object{expression.Object{{Key: "const", Value: v.Key}}}
					one.some("description", v.Value)
					each = append(each, one.Object)
				}
				o.some("oneOf", each)
			}
		}
		return o.Object
	}
	return p.Bundle()
}

// get returns what an object has under a key.
func get(v any, key string) any {
	o, _ := v.(expression.Object)
	for _, m := range o {
		if m.Key == key {
			return m.Value
		}
	}
	return nil
}

// recent are the keywords that drafts before 2019-09 do not have, or take for another.
var recent = []string{
	"prefixItems", "dependentRequired", "dependentSchemas", "unevaluatedProperties", "unevaluatedItems", "minContains",
	"maxContains", "$anchor", "$dynamicRef", "$dynamicAnchor", "$recursiveRef", "$recursiveAnchor", "contentSchema",
}

// newer tells whether a schema means something else to those who take it for one of draft 7.
func newer(v any) (is bool) {
	if _, boolean := v.(bool); boolean {
		return true
	}
	contract.WalkSchema(v, func(o expression.Object) (expression.Object, bool) {
		for _, m := range o {
			is = is || slices.Contains(recent, m.Key) || m.Key == "$ref" && len(o) > 1
		}
		return o, !is
	})
	return is
}

// rebase moves the references of a schema from one place to another; those of what has an $id are its own.
func rebase(v any, from, to string) any {
	return contract.WalkSchema(v, func(o expression.Object) (expression.Object, bool) {
		if id, _ := get(o, "$id").(string); id != "" {
			return o, false
		}
		out := slices.Clone(o)
		for i, m := range out {
			text, is := m.Value.(string)
			if rest, inside := strings.CutPrefix(text, from); is && inside && (m.Key == "$ref" || m.Key == "$dynamicRef") &&
				(rest == "" || rest[0] == '/') {
				out[i].Value = to + rest
			}
		}
		return out, true
	})
}
