package sending

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/payload"
)

// Judge holds the order to the contract, as a message that is seen on the wire is held to it, and keeps what it breaks.
func (o *Order) Judge(c *contract.Contract, actors []Actor) {
	sender := o.Speaker
	if sender == "" {
		sender = "Hodstone's own client"
	}
	j := contract.NewJudge(c, rule.All()).Message(contract.Message{
		At:          time.Now(),
		Topic:       o.Topic,
		Payload:     o.Payload,
		QoS:         o.QoS,
		Granted:     o.QoS,
		Retain:      o.Retain,
		RetainKnown: true,
		Sender:      sender,
		Party:       o.Party,
	})
	o.Breaches, o.Near = j.Breaches, j.Near
	i := slices.IndexFunc(actors, func(a Actor) bool { return a.Name == o.Speaker })
	if i < 0 || o.Clause == nil || o.Party != o.Clause.From {
		return
	}
	values := o.Clause.Topic.Values(o.Topic)
	for _, name := range sorted(values) {
		if mine := actors[i].Params[name]; mine != "" && mine != values[name] {
			o.Breaches = append(o.Breaches, contract.Breach{
				Clause: o.Clause.Name, Topic: o.Topic, Rule: contract.RuleFrom, Sender: o.Speaker, Payload: o.Payload,
				Expected: fmt.Sprintf("the %s of %s %s", o.Party, name, values[name]),
				Seen:     fmt.Sprintf("%s, which is that of %s %s", o.Speaker, name, mine),
			})
		}
	}
}

// Words say where the message goes, and how: its topic, size, QoS and retain flag, and who sends it.
func (o *Order) Words() string {
	by := "Hodstone's own client"
	switch {
	case o.Speaker != "":
		by = o.Speaker
	case o.Party != "":
		by += ", for no " + o.Party + " is connected"
	}
	kept := "not retained"
	if o.Retain {
		kept = "retained"
	}
	size := fmt.Sprintf("%d bytes", len(o.Payload))
	if len(o.Payload) == 1 {
		size = "1 byte"
	}
	return fmt.Sprintf("%s, %s, QoS %d, %s, by %s", o.Topic, size, o.QoS, kept, by)
}

// FieldLine is a field of a clause's payload beside what was typed for it.
type FieldLine struct {
	contract.Field
	Value string // as JSON, or as text; "" where it is not there
	Given bool
	// Broken is what is wrong with it, "" for nothing.
	Broken string
}

// Agreed says what is agreed of the field: its unit, range, and listed values.
func (f *FieldLine) Agreed() string {
	var parts []string
	for _, s := range []string{f.Type, f.Range, f.Unit} {
		if s != "" {
			parts = append(parts, s)
		}
	}
	var values []string
	for _, v := range sorted(f.Values) {
		if meaning := f.Values[v]; meaning != "" {
			v += " " + meaning
		}
		values = append(values, v)
	}
	out := strings.Join(parts, ", ")
	if len(values) > 0 {
		out = strings.TrimPrefix(out+": "+strings.Join(values, " · "), ": ")
	}
	if !f.Required {
		out += " (may be missing)"
	}
	return out
}

// Fields are the fields of the clause's payload, each with what was typed for it; nil without a clause.
func (o *Order) Fields() (out []FieldLine) {
	if o.Clause == nil {
		return nil
	}
	value, err := o.Clause.Payload.Code().Decode(o.Payload)
	for _, f := range o.Clause.Payload.Fields() {
		l := FieldLine{Field: f}
		if v, ok := payload.At(value, f.Pointer); ok && err == nil {
			l.Given = true
			if s, is := v.(string); is && f.Pointer == "" {
				l.Value = s
			} else {
				l.Value = contract.Compact(v)
			}
		}
		for i := range o.Breaches {
			if b := &o.Breaches[i]; b.Where == f.Pointer && b.Where != "" {
				l.Broken = b.Expected
			}
		}
		out = append(out, l)
	}
	return out
}

// Begin is a sentence to begin with: the clause's message for the parameters as the party that publishes it would send
// it, made of the last payload that was seen, of an example, or of what its fields say.
func Begin(cl *contract.Clause, of map[string]string, as string, last []byte) *Sentence {
	s := &Sentence{As: as, To: cl.Name, Of: of}
	if s.As == "" {
		s.As = cl.From
	}
	for _, b := range append([][]byte{last}, examples(cl)...) {
		if len(b) == 0 {
			continue
		}
		if text, ok := cl.Payload.Write(b); ok {
			s.Payload = typed(cl, text)
			return s
		}
	}
	if s.Payload = typed(cl, Sample(&cl.Payload)); s.Payload == "" {
		s.Nothing = true
	}
	return s
}

func examples(cl *contract.Clause) (out [][]byte) {
	for i := range cl.Examples {
		out = append(out, cl.Examples[i].Payload)
	}
	return out
}

// typed is a payload as it stands in a sentence: on one line, a text in quotes where it would be read as another.
func typed(cl *contract.Clause, text string) string {
	if f := cl.Payload.Format; f != payload.Text && f != payload.Number {
		return strings.Join(
			strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == '\r' || r == '\t' }),
			" ",
		)
	}
	return Quoted(text)
}

// Quoted is a text as it stands in a sentence: in quotes where it would be read as another.
func Quoted(text string) string {
	if text != "" &&
		(text == nothing || !utf8.ValidString(text) || strings.TrimSpace(text) != text || strings.ContainsAny(text, "\"{[") ||
			strings.ContainsFunc(text, func(r rune) bool { return r < ' ' }) || strings.Contains(text, " to ")) {
		return strconv.Quote(text)
	}
	return text
}

// Sample is a payload that a contract's fields suggest, as a person writes it: the first listed value, the smallest of
// a range, something of the type.
func Sample(p *contract.Payload) string {
	fields := p.Fields()
	if p.Schema == nil {
		for _, f := range fields {
			if values := sorted(f.Values); len(values) > 0 {
				return values[0]
			}
		}
		if p.Minimum != nil {
			return contract.Compact(*p.Minimum)
		}
		return ""
	}
	out := map[string]any{}
	var names []string
	for i := range fields {
		f := &fields[i]
		name := strings.TrimPrefix(f.Pointer, "/")
		if name == "" || strings.Contains(name, "/") || !f.Required {
			continue
		}
		names = append(names, f.Name)
		out[f.Name] = sampleOf(f)
	}
	var parts []string
	for _, name := range names {
		key, _ := json.Marshal(name)
		value, _ := json.Marshal(out[name])
		parts = append(parts, string(key)+":"+string(value))
	}
	if len(parts) == 0 {
		return ""
	}
	return "{" + strings.Join(parts, ",") + "}"
}

func sampleOf(f *contract.Field) any {
	if values := sorted(f.Values); len(values) > 0 {
		var v any
		if json.Unmarshal([]byte(values[0]), &v) == nil {
			return v
		}
		return values[0]
	}
	kind, form, _ := strings.Cut(f.Type, ",")
	kind, _, _ = strings.Cut(kind, " or ")
	switch {
	case strings.Contains(form, "date-time"):
		return time.Now().UTC().Format(time.RFC3339)
	case kind == "boolean":
		return true
	case kind == "number" || kind == "integer":
		var least float64
		if _, err := fmt.Sscan(f.Range, &least); err == nil {
			return least
		}
		return 1
	case kind == "array":
		return []any{}
	case kind == "object":
		return map[string]any{}
	}
	return ""
}
