package proof

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

var subscribeChecks = []*Check{
	{Name: "subscribe.wildcards", Title: "filters match exactly what they should",
		Expected:   "each of ten filters gets exactly the topics it matches",
		Section311: "4.7", Section5: "4.7", Run: subscribeWildcards},
}

// The table of filters and topics; ~ stands for the check's own root.
var (
	wildcardFilters = []string{
		"~/#", "~/a/#", "~/+", "~/+/c", "~/+/+", "~//+", "~/a/+/d", "~/a/", "~/A", "/~/+",
	}
	wildcardTopics = []string{
		"~", "~/a", "~/A", "~/a/", "~/a/c", "~//c", "~/a//d", "~/a/x/d", "~/b/c", "~/a b", "~/å/c", "/~/a",
	}
)

func subscribeWildcards(p *Pass) error {
	root := p.Topic("w")
	full := func(s string) string { return strings.ReplaceAll(s, "~", root) }
	publisher := p.Peer("publisher")
	all := []*Peer{publisher}
	for i := range wildcardFilters {
		all = append(all, p.Peer(fmt.Sprintf("filter-%d", i+1)))
	}
	if err := p.ConnectAll(all...); err != nil {
		return err
	}
	subscribers := all[1:]
	for i, f := range wildcardFilters {
		p.Step("%s subscribes to %s", subscribers[i].Name, f)
		if _, err := p.Subscribe(subscribers[i], full(f), 1); err != nil {
			return err
		}
	}
	from := p.Mark()
	p.Step("publish to %d topics", len(wildcardTopics))
	for _, t := range wildcardTopics {
		if err := p.Publish(publisher, packet.Publish{Topic: full(t), QoS: 1, Payload: []byte(t)}); err != nil {
			return err
		}
	}
	var wrong []string
	for i, f := range wildcardFilters {
		for _, t := range wildcardTopics {
			if topic.Match(full(f), full(t)) && p.AwaitMessage(subscribers[i], from, full(t), t) == nil {
				wrong = append(wrong, fmt.Sprintf("%s missed %s", f, t))
				break // one miss per filter: each is waited for
			}
		}
	}
	if _, err := p.Quiet(subscribers...); err != nil {
		return err
	}
	for i, f := range wildcardFilters {
		for _, m := range p.Messages(subscribers[i], from) {
			if !topic.Match(full(f), m.Topic) {
				wrong = append(wrong, fmt.Sprintf("%s got %s", f, strings.ReplaceAll(m.Topic, root, "~")))
			}
		}
	}
	if len(wrong) > 0 {
		slices.Sort(wrong)
		return Break("%s (~ is %s)", strings.Join(wrong, "; "), root)
	}
	p.Saw("all %d filters got what they match and nothing else", len(wildcardFilters))
	return nil
}
