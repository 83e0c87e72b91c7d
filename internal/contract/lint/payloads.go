package lint

import (
	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/payload"
)

var payloads = []*Lint{
	{"anything", "A payload of which nothing is said lets every mistake pass.",
		"say what it is: a schema, values, a pattern, a range, fields, a media type", each(func(p *Pass, cl *contract.Clause) {
			pl := &cl.Payload
			free := pl.Schema != nil && pl.Schema.Anything()
			switch pl.Format {
			case payload.JSON, payload.CBOR, payload.MessagePack:
				free = free || pl.Schema == nil
			case payload.Text:
				free = len(pl.Values) == 0 && pl.Pattern == nil
			case payload.Number:
				free = pl.Minimum == nil && pl.Maximum == nil
			case payload.Binary:
				free = pl.Codec == nil && pl.MediaType == ""
			default:
				free = false
			}
			if free {
				p.Clause(cl, "the payload of %s may be any %s", cl.Name, pl.Format)
			}
		})},
	{"example", "An example that the clause itself calls broken misleads whoever programs by it.",
		"mend the example, or the payload's description", each(func(p *Pass, cl *contract.Clause) {
			for i := range cl.Examples {
				if found := rule.Payload(p.Contract, cl, cl.Examples[i].Payload); len(found) > 0 {
					b := found[0]
					p.Example(cl, &cl.Examples[i], "an example of %s breaks it, %s %s: expected %s, saw %s",
						cl.Name, b.Rule, b.Where, b.Expected, b.Seen)
				}
			}
		})},
	{"counter-example", "A counter-example that passes shows that the clause does not say what it was meant to.",
		"say in the payload what makes it wrong, or take it away", each(func(p *Pass, cl *contract.Clause) {
			for i := range cl.Counter {
				if x := &cl.Counter[i]; len(rule.Payload(p.Contract, cl, x.Payload)) == 0 {
					p.Example(cl, x, "a counter-example of %s passes (%s)", cl.Name, x.Because)
				}
			}
		})},
}
