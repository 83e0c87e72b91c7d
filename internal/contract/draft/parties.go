package draft

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// party is a role that clients were found to have.
type party struct {
	name    string
	clients []string
	guessed bool // by topics alone
}

var numbered = regexp.MustCompile(`^(.*?[^0-9])[-_.:/]?([0-9]+)$`)

// stem is a client's name without the number that tells it from others of its kind, and the number.
func stem(name string) (word, number string) {
	if m := numbered.FindStringSubmatch(name); m != nil {
		if word = strings.Trim(m[1], "-_.:/ "); word != "" {
			return word, m[2]
		}
	}
	return name, ""
}

// partyOf names the party of a client: clients whose names differ by a number only are of one.
func (d *drafting) partyOf(client string) string {
	if p := d.plays[client]; p != "" {
		return p
	}
	word, _ := stem(client)
	word = strings.Trim(notName.ReplaceAllString(strings.ToLower(word), "-"), "-")
	if word == "" {
		return "client"
	}
	return word
}

func (d *drafting) party(name string, guessed bool, clients ...string) *party {
	for _, p := range d.parties {
		if p.name == name {
			p.guessed = p.guessed && guessed
			for _, c := range clients {
				if !slices.Contains(p.clients, c) {
					p.clients = append(p.clients, c)
				}
			}
			return p
		}
	}
	p := &party{name, clients, guessed}
	d.parties = append(d.parties, p)
	return p
}

// publisher finds who publishes a shape's topics: how many of the messages whose senders are known came from there.
func (d *drafting) publisher(x *shape) (name string, n, all int) {
	counts := map[string]int{}
	for _, s := range x.topics {
		for client, k := range s.senders {
			counts[d.partyOf(client)] += k
		}
		for _, c := range d.clients {
			if c.Will == s.name {
				counts[d.partyOf(c.Name)]++
			}
		}
	}
	if name, n, all = most(counts); name != "" {
		for _, s := range x.topics {
			for client := range s.senders {
				if d.partyOf(client) == name {
					d.party(name, false, client)
				}
			}
		}
		return name, n, all
	}
	// By the topic: the first level that tells topics apart.
	for i, l := range x.levels {
		if x.names[i] == "" && i >= d.common {
			if word := strings.Trim(notName.ReplaceAllString(strings.ToLower(l[0]), "-"), "-"); word != "" && i < len(x.levels)-1 {
				return singular(word), 0, 0
			}
			break
		}
	}
	return "", 0, 0
}

// consumers finds who subscribed to a shape's topics. Who subscribes to everything is no consumer of each.
func (d *drafting) consumers(x *shape, from string) (out []string) {
	for _, client := range slices.Sorted(maps.Keys(d.filters)) {
		name := d.partyOf(client)
		if name == from || slices.Contains(out, name) {
			continue
		}
		for f := range d.filters[client] {
			if f == "#" || f == "+/#" {
				continue
			}
			if slices.ContainsFunc(x.topics, func(s *seen) bool { return topic.Match(f, s.name) }) {
				out = append(out, name)
				d.party(name, false, client)
				break
			}
		}
	}
	slices.Sort(out)
	return out
}

// terms are how the clients of a party came, and in what they differ.
func (d *drafting) terms(p *party) (t object, doubts []string) {
	var came []*Client
	for _, name := range p.clients {
		if c := d.clients[name]; c != nil {
			came = append(came, c)
		}
	}
	if len(came) == 0 {
		return t, doubts
	}
	ids, words := 0, map[string]bool{}
	for _, c := range came {
		if _, number := stem(c.ID); number != "" {
			words[strings.TrimSuffix(c.ID, number)] = true
			ids++
		}
	}
	if ids == len(came) && len(words) == 1 && len(came) > 1 {
		t.put("client-id", d.pattern(p.name, slices.Collect(maps.Keys(words))[0], came))
	} else if len(came) == 1 && came[0].ID != "" {
		t.put("client-id", came[0].ID)
	}
	versions := map[packet.Version]int{}
	var shortest, longest time.Duration
	clean, tls, known := 0, 0, 0
	for i, c := range came {
		versions[c.Version]++
		if i == 0 || c.KeepAlive < shortest {
			shortest = c.KeepAlive
		}
		longest = max(longest, c.KeepAlive)
		if c.CleanStart {
			clean++
		}
		if c.Encrypted != nil {
			known++
			if *c.Encrypted {
				tls++
			}
		}
	}
	var list []any
	for _, v := range slices.Sorted(maps.Keys(versions)) {
		list = append(list, v.String())
	}
	if len(list) == 1 {
		t.put("version", list[0])
	} else {
		t.put("version", list)
	}
	if shortest == longest {
		t.put("keep-alive", short(longest))
	} else {
		t.put("keep-alive", short(shortest)+".."+short(longest))
	}
	if clean == len(came) || clean == 0 {
		t.put("clean-start", clean > 0)
	} else {
		doubts = append(doubts, "? clean start of "+share(clean, len(came))+" clients")
	}
	switch {
	case known == 0:
	case tls == known:
		t.put("tls", "required")
	case tls == 0:
		t.put("tls", "none")
	default:
		t.put("tls", "allowed")
	}
	return t, doubts
}

// pattern is what the client identifiers of a party look like, which begin with a prefix and end in a number: by the
// parameter that is called like the party where its values are these numbers, or the identifiers.
func (d *drafting) pattern(party, prefix string, came []*Client) string {
	if p := d.params[party]; p != nil {
		ids, numbers := true, true
		for _, c := range came {
			ids = ids && slices.Contains(p.values, c.ID)
			numbers = numbers && slices.Contains(p.values, strings.TrimPrefix(c.ID, prefix))
		}
		switch {
		case ids:
			return "{" + party + "}"
		case numbers:
			return prefix + "{" + party + "}"
		}
	}
	return prefix + "{n}"
}
