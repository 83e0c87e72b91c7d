package rule

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"hodstone/internal/contract"
)

// Format holds the bytes to the payload's format.
var Format = &contract.Rule{Name: contract.RuleFormat, Payload: true,
	Doc:   "The payload is of the clause's format: JSON text with each name once in an object, UTF-8 text without NUL, a decimal number. An empty retained message clears what is stored and is none.",
	Start: stateless(format)}

func format(p *contract.Pass) {
	if _, err, _ := p.Value(); err != nil {
		p.Breach(
			contract.Breach{
				Where:    fmt.Sprintf("byte %d", err.Offset),
				Expected: string(p.Clause.Payload.Format),
				Seen:     err.Reason,
			},
		)
	}
}

// Schema holds JSON values to the clause's JSON Schema (draft 2020-12).
var Schema = &contract.Rule{Name: contract.RuleSchema, Payload: true,
	Doc:   "The JSON value fits the clause's schema; formats such as date-time are held to. Whatever the validator calls invalid is a breach, and so is what it cannot decide.",
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
	Doc:   "The text is one of those listed, letter by letter.",
	Start: stateless(values)}

func values(p *contract.Pass) {
	pl := &p.Clause.Payload
	v, err, _ := p.Value()
	if err != nil || len(pl.Values) == 0 {
		return
	}
	var listed []string
	for _, a := range pl.Values {
		if a.Text == v {
			return
		}
		listed = append(listed, strconv.Quote(a.Text))
	}
	p.Breach(contract.Breach{Expected: "one of " + strings.Join(listed, ", "), Seen: fmt.Sprintf("%.60q", v)})
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
