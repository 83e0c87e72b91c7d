package rule

import (
	"fmt"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/payload"
)

// underway is how long a message may have been on its way beyond what is agreed, as held up by links.
const underway = 2 * time.Second

// Stamp holds a message to telling the time when it was published.
var Stamp = &contract.Rule{
	Name:  contract.RuleStamp,
	Doc:   "The time that the message tells, as text of RFC 3339 or in seconds since 1970, whole or with a fraction, is no further from when it came than agreed, and 2 s that it may have been under way: a clock that stands in 1970, runs away, or is in another time zone, and a message that was kept too long. It goes by this machine's clock. Stored copies, and messages without the field (which the schema demands, or not), are not looked at.",
	Start: stateless(stamp),
}

func stamp(p *contract.Pass) {
	want, m := p.Clause.Stamp, p.Message
	if want == nil || m.Copy {
		return
	}
	v, err := p.Clause.Payload.Code().Decode(m.Payload)
	if err != nil {
		return
	}
	if v = payload.Plain(v); want.Field != "" {
		var there bool
		if v, there = payload.At(v, want.Field); !there {
			return
		}
	}
	told, ok := contract.TimeOf(v)
	if !ok {
		return
	}
	off, way := m.At.Sub(told), "before"
	if off < 0 {
		off, way = -off, "after"
	}
	if off <= want.Within+underway {
		return
	}
	far := off.Round(time.Second).String()
	if days := int(off.Hours() / 24); days > 1 {
		far = fmt.Sprintf("%d days", days)
	}
	p.Breach(
		contract.Breach{
			Keyword:  want.Field,
			Expected: "the time when it was published, to " + want.Within.String(),
			Seen: fmt.Sprintf(
				"%s, which is %s %s it came, by this machine's clock",
				told.UTC().Format(time.RFC3339),
				far,
				way,
			),
		},
	)
}
