package draft

import (
	"math"
	"slices"
	"strings"
	"time"

	"hodstone/internal/expression"
	"hodstone/internal/payload"
	"hodstone/internal/plain"
)

// describe finds all of a clause but what it answers.
func (d *drafting) describe(c *clause) {
	c.body.put("topic", c.topic())
	if c.n > 0 {
		d.note(c, "", "%s, %s", plain.Count(len(c.topics), "topic"), plain.Count(c.n, "message"))
	} else {
		d.note(c, "", "%s, heard only as stored", plain.Count(len(c.topics), "topic"))
	}
	var n, all int
	if c.from, n, all = d.publisher(c.shape); c.from != "" {
		d.party(c.from, all == 0)
		c.body.put("from", c.from)
		if all == 0 {
			d.note(c, "from", "? its sender was not seen: this is by the topic")
		} else {
			d.note(c, "from", "%s", share(n, all))
		}
	}
	if to := d.consumers(c.shape, c.from); len(to) > 0 {
		var list []any
		for _, x := range to {
			list = append(list, x)
		}
		c.body.put("to", list)
	} else {
		d.note(c, "topic", "? nobody was seen to consume it")
	}
	d.envelope(c)
	presence := d.presence(c)
	if !presence {
		d.cadence(c)
	}
	d.payload(c, presence)
}

// envelope finds QoS and retain flag.
func (d *drafting) envelope(c *clause) {
	var qos [3]int
	var retain [2]int
	copies := 0
	for _, s := range c.topics {
		for i, n := range s.qos {
			qos[i] += n
		}
		retain[0], retain[1], copies = retain[0]+s.retain[0], retain[1]+s.retain[1], copies+flag(s.copies > 0)
	}
	best, n, all := most(map[int]int{0: qos[0], 1: qos[1], 2: qos[2]})
	if all > 0 && float64(n) >= 0.9*float64(all) {
		c.body.put("qos", best)
		d.note(c, "qos", "%s", share(n, all))
	} else if all == 0 {
		d.note(c, "topic", "? at which QoS it is published was not seen")
	} else {
		d.note(c, "topic", "? at QoS 0 %d, 1 %d, 2 %d times", qos[0], qos[1], qos[2])
	}
	switch all := retain[0] + retain[1]; {
	case all > 0 && (retain[0] == 0 || retain[1] == 0 || max(retain[0], retain[1])*10 >= all*9):
		c.body.put("retain", retain[1] > retain[0])
		d.note(c, "retain", "%s", share(max(retain[0], retain[1]), all))
	case all > 0:
		d.note(c, "topic", "? retained %s", share(retain[1], all))
	case copies > 0:
		c.body.put("retain", true)
		d.note(c, "retain", "%s topics were stored", share(copies, len(c.topics)))
	}
}

// presence finds whether the clause tells who is there.
func (d *drafting) presence(c *clause) bool {
	wills, first := map[string]int{}, map[string]int{}
	for _, s := range c.topics {
		for text, n := range s.wills {
			wills[text] += n
		}
		for _, cl := range d.clients {
			if cl.Will == s.name {
				wills[cl.WillText]++
			}
		}
	}
	if len(wills) == 0 || len(c.value.texts) > 6 || c.value.many ||
		c.value.format() != payload.Text && !(flags(c.value.texts) && flags(wills)) {
		return false
	}
	lost, _, _ := most(wills)
	for text, n := range c.value.texts {
		if text != lost {
			first[text] = n
		}
	}
	begin := map[string]int{}
	for _, s := range c.topics {
		if s.first != lost {
			begin[s.first]++
		}
	}
	coming, n, all := most(begin)
	if coming == "" {
		coming, n, all = most(first)
	}
	if coming == "" {
		return false
	}
	delete(first, coming)
	leaving, _, _ := most(first)
	if leaving == "" {
		leaving = opposite(coming, lost)
		d.note(c, "presence", "? how it leaves was not seen")
	}
	c.body.put(
		"presence",
		expression.Object{{Key: "coming", Value: coming}, {Key: "leaving", Value: leaving}, {Key: "lost", Value: lost}},
	)
	d.note(c, "presence", "%s came with %q, and %q is a will", share(n, all), coming, lost)
	for _, text := range []string{coming, leaving, lost} {
		if c.value.texts[text] == 0 {
			c.value.texts[text] = 0
		}
	}
	return true
}

// flags tells whether texts are 0 and 1, or one of them.
func flags(texts map[string]int) bool {
	for text := range texts {
		if text != "0" && text != "1" {
			return false
		}
	}
	return true
}

// opposite is the word with which somebody leaves who came with another.
func opposite(coming, lost string) string {
	for _, pair := range [][2]string{{"on", "off"}, {"online", "offline"}, {"up", "down"}, {"1", "0"}, {"true", "false"}, {"connected", "disconnected"}, {"alive", "gone"}} {
		if strings.EqualFold(coming, pair[0]) {
			if coming == strings.ToUpper(pair[0]) {
				return strings.ToUpper(pair[1])
			}
			return pair[1]
		}
	}
	return lost
}

// enough is how many messages of a topic say something of its cadence.
const enough = 5

// cadence finds how often messages come.
func (d *drafting) cadence(c *clause) {
	var gaps []time.Duration
	var longest time.Duration
	repeats, live, fewest := 0, 0, math.MaxInt
	for _, s := range c.topics {
		gaps = append(gaps, s.gaps...)
		longest = max(longest, s.longest)
		repeats, live, fewest = repeats+s.repeats, live+s.n, min(fewest, s.n)
	}
	if fewest < enough || len(gaps) < enough-1 {
		return
	}
	slices.Sort(gaps)
	median := gaps[len(gaps)/2]
	early := gaps[len(gaps)/10]
	if longest > median*3/2+time.Second || median < 50*time.Millisecond || longest > median*3 {
		// It comes when it comes.
		if repeats == 0 && live >= 2*enough {
			c.body.put("only", "changes")
			d.note(c, "only", "never the same twice in %d", live)
		}
		return
	}
	period := tidy(median)
	slack := max(tidyUp(longest*3/2-period), time.Second)
	if slack >= period && period > 2*time.Second {
		slack = period
	}
	c.body.put("every", short(period)+" ± "+short(slack))
	d.note(c, "every", "median %s, nine in ten after %s or more, longest %s", tidy(median), tidy(early), tidy(longest))
}

// tidy rounds a duration to what a person would write.
func tidy(d time.Duration) time.Duration {
	for _, step := range []time.Duration{time.Minute, time.Second, 100 * time.Millisecond, 10 * time.Millisecond} {
		if d >= 10*step || step == 10*time.Millisecond ||
			d >= step && d.Round(step)-d < step/20 && d-d.Round(step) < step/20 {
			return d.Round(step)
		}
	}
	return d
}

// tidyUp rounds a duration up to what a person would write.
func tidyUp(d time.Duration) time.Duration {
	if d <= 0 {
		return 0
	}
	step := time.Second
	if d > 20*time.Second {
		step = 5 * time.Second
	}
	if d < 2*time.Second {
		step = 500 * time.Millisecond
	}
	return (d + step - 1) / step * step
}

// payload finds what the clause carries.
func (d *drafting) payload(c *clause, presence bool) {
	v := c.value
	format := v.format()
	largest := 0
	for _, s := range c.topics {
		largest = max(largest, s.largest)
	}
	var p object
	x := finding{notes: map[string][]string{}}
	if suffix := v.commonSuffix(); suffix != "" {
		format = payload.Number
	}
	if presence {
		format = payload.Text // also where its words are 0 and 1
	}
	p.put("format", string(format))
	switch format {
	case payload.Number:
		suffix := v.commonSuffix()
		if strings.TrimSpace(suffix) == "%" && v.lo >= 0 && v.hi <= 100 {
			p.put("minimum", 0)
			p.put("maximum", 100)
			x.note("", "from %v to %v in %d", v.lo, v.hi, v.count)
		} else {
			x.limits(v, "", p.put)
		}
		if u := unitOf(c.levels[len(c.levels)-1][0]); u != "" && suffix == "" {
			p.put("unit", u)
		}
		if suffix != "" {
			p.put("suffix", suffix)
		}
	case payload.Text:
		shape, n, _ := most(v.shapes)
		coded := n == v.strings && strings.Contains(shape, "0") && len(v.texts) > 1
		switch {
		case presence || !coded && !v.many && len(v.texts) > 0 && len(v.texts) <= listed && v.strings >= often*len(v.texts) && len(v.texts) > 1:
			values := expression.Object{}
			for _, text := range sortedTexts(v.texts) {
				values = append(values, expression.Member{Key: text, Value: ""})
			}
			p.put("values", values)
			x.note("", "%d values in %d; what does each mean?", len(values), v.strings)
		case coded:
			p.put("pattern", strings.TrimSuffix(strings.TrimPrefix(patternOf(shape), "^"), "$"))
		default:
			x.note("", "? any text")
		}
	case payload.JSON, payload.CBOR, payload.MessagePack:
		p.put("schema", x.schema(v, "", ""))
	case payload.Binary:
		x.note("", "? bytes: say what they are, by fields or a media-type")
		p.put("media-type", "application/octet-stream")
	}
	if format == payload.Binary || format == payload.CBOR || format == payload.MessagePack || largest > 1024 {
		size := 64
		for size < largest*2 {
			size *= 2
		}
		p.put("max-size", size)
		x.note("", "%d bytes at most", largest)
	}
	c.body.put("payload", p.Object)
	for at, notes := range x.notes {
		key := "payload"
		if at != "" {
			key = "payload/schema" + at
		}
		for _, n := range notes {
			d.note(c, key, "%s", n)
		}
	}
	for _, o := range x.outlier {
		d.result.Outliers = append(d.result.Outliers, c.name+": "+o)
	}
}

func sortedTexts(m map[string]int) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
