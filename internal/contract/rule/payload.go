package rule

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"hodstone/internal/contract"
)

// Format holds the bytes to the payload's format.
var Format = &contract.Rule{Name: contract.RuleFormat, Payload: true,
	Doc:   "The payload is of the clause's format: JSON, CBOR or MessagePack with each name once in an object, UTF-8 text without NUL, a decimal number with the suffix that is agreed, well-formed XML, a message of Protocol Buffers without fields that its .proto file does not have, a packed structure with its magic, lengths and no byte too many. An empty retained message clears what is stored and is none.",
	Start: stateless(format)}

func format(p *contract.Pass) {
	if _, err, _ := p.Value(); err != nil {
		p.Breach(
			contract.Breach{
				Where:    fmt.Sprintf("byte %d", err.Offset),
				Expected: p.Clause.Payload.Words(),
				Seen:     err.Reason,
			},
		)
	}
}

// Size holds the payload to its largest size.
var Size = &contract.Rule{Name: contract.RuleSize, Payload: true,
	Doc:   "The payload has no more bytes than agreed.",
	Start: stateless(size)}

func size(p *contract.Pass) {
	if most := p.Clause.Payload.MaxSize; most > 0 && len(p.Message.Payload) > most {
		p.Breach(
			contract.Breach{
				Expected: fmt.Sprintf("%d bytes at most", most),
				Seen:     fmt.Sprintf("%d bytes", len(p.Message.Payload)),
			},
		)
	}
}

// Schema holds JSON values to the clause's JSON Schema (draft 2020-12).
var Schema = &contract.Rule{Name: contract.RuleSchema, Payload: true,
	Doc:   "The value, as JSON has it, fits the clause's schema, which packed structures and XML make of their fields and paths; formats such as date-time are held to. Whatever the validator calls invalid is a breach, and so is what it cannot decide.",
	Start: stateless(schema)}

func schema(p *contract.Pass) {
	s := p.Clause.Payload.Schema
	if s == nil {
		return
	}
	if v, err, sound := p.Value(); err == nil && !sound {
		for _, b := range s.Breaches(v) {
			p.Breach(b)
		}
	}
}

// Values holds text to the values that the clause lists.
var Values = &contract.Rule{Name: contract.RuleValue, Payload: true,
	Doc:   "The text is one of those listed, letter by letter, and matches the pattern as a whole; where only the first character counts, that one is listed.",
	Start: stateless(values)}

func values(p *contract.Pass) {
	pl := &p.Clause.Payload
	v, err, _ := p.Value()
	text, is := v.(string)
	if err != nil || !is || len(pl.Values) == 0 && pl.Pattern == nil {
		return
	}
	if pl.Pattern != nil && !pl.Pattern.MatchString(text) {
		p.Breach(
			contract.Breach{
				Expected: "what matches " + strings.TrimSuffix(strings.TrimPrefix(pl.Pattern.String(), "^(?:"), ")$"),
				Seen:     fmt.Sprintf("%.60q", text),
			},
		)
		return
	}
	if len(pl.Values) == 0 {
		return
	}
	what := "one of "
	if pl.FirstCharacter {
		what = "a first character of "
		_, n := utf8.DecodeRuneInString(text)
		v = text[:n]
	}
	var listed []string
	for _, a := range pl.Values {
		if a.Text == v {
			return
		}
		listed = append(listed, strconv.Quote(a.Text))
	}
	p.Breach(contract.Breach{Expected: what + strings.Join(listed, ", "), Seen: fmt.Sprintf("%.60q", text)})
}

// Range holds numbers to the clause's bounds, both included.
var Range = &contract.Rule{Name: contract.RuleRange, Payload: true,
	Doc:   "The number lies between minimum and maximum, both included.",
	Start: stateless(inRange)}

func inRange(p *contract.Pass) {
	pl := &p.Clause.Payload
	v, err, _ := p.Value()
	n, ok := v.(json.Number)
	if err != nil || !ok || pl.Schema != nil {
		return
	}
	if f, _ := n.Float64(); pl.Minimum != nil && f < *pl.Minimum || pl.Maximum != nil && f > *pl.Maximum {
		p.Breach(
			contract.Breach{
				Expected: strings.TrimSpace(contract.Span(pl.Minimum, pl.Maximum) + " " + pl.Unit),
				Seen:     string(n),
			},
		)
	}
}
