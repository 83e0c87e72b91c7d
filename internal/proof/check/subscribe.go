package check

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/topic"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

var subscribe = []*proof.Check{
	{Name: "subscribe.wildcards", Title: "filters match exactly what they should",
		Expected: "each of the filters gets exactly the topics it matches, once each",
		Sections: proof.Same("Appendix A", "4.7"), Needs: proof.Needs{Least: 2, Most: 1 + len(wildcardFilters)},
		Run: subscribeWildcards},
	{Name: "subscribe.topic-exact", Title: "topic names arrive as published",
		Expected: "each topic name comes back unchanged, through the very same filter and through #, and through no filter that only looks alike",
		Sections: proof.Sections{
			V31:  "Appendix A",
			V311: "1.5.3, 4.7",
			V5:   "1.5.4, 4.7",
		}, Needs: proof.Needs{Least: 4}, Run: subscribeTopicExact},
}

// The table of filters and topics; ~ stands for the check's own root.
var (
	wildcardFilters = []string{
		"~/#", "~/a/#", "~/+", "~/+/c", "~/+/+", "~//+", "~/a/+/d", "~/a/", "~/A", "/~/+", "~/a/c",
	}
	wildcardTopics = []string{
		"~", "~/a", "~/A", "~/a/", "~/a/c", "~//c", "~/a//d", "~/a/x/d", "~/b/c", "/~/a", "~/a/c/",
	}
)

func subscribeWildcards(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	// As many filters at a time as there may be clients, under a root of their own.
	var wrong []string
	batch := 0
	for some := range slices.Chunk(wildcardFilters, max(1, p.Room()-1)) {
		batch++
		bad, err := tryFilters(p, publisher, some, p.Topic(fmt.Sprint("w", batch)))
		if err != nil {
			return err
		}
		wrong = append(wrong, bad...)
	}
	if len(wrong) > 0 {
		slices.Sort(wrong)
		return proof.Break("%s (~ is the check's own root)", strings.Join(wrong, "; "))
	}
	p.Saw("all %d filters got what they match, once each, and nothing else", len(wildcardFilters))
	return nil
}

// tryFilters lets a client for each filter subscribe, publishes to all topics, and says what went wrong.
func tryFilters(p *proof.Pass, publisher *proof.Client, filters []string, root string) (wrong []string, err error) {
	full := func(s string) string { return strings.ReplaceAll(s, "~", root) }
	var subscribers []*proof.Client
	for _, f := range filters {
		subscribers = append(subscribers, p.Client("filter "+f))
	}
	defer func() {
		for _, s := range subscribers {
			s.Disconnect(0)
		}
	}()
	if err := p.ConnectAll(subscribers...); err != nil {
		return nil, err
	}
	for i, f := range filters {
		p.Step("subscribe to %s", f)
		if _, err := p.Subscribe(subscribers[i], full(f), 1); err != nil {
			return nil, err
		}
	}
	from := p.Mark()
	p.Step("publish to %d topics", len(wildcardTopics))
	sent := map[string]*trace.Event{}
	qos := p.Highest(1)
	for _, t := range wildcardTopics {
		if sent[t], err = p.Publish(publisher, publish(full(t), t, qos, false)); err != nil {
			return nil, err
		}
	}
	for i, f := range filters {
		for _, t := range wildcardTopics {
			if topic.Match(full(f), full(t)) && p.AwaitMessage(subscribers[i], from, full(t), t) == nil {
				p.Decide(sent[t])
				wrong = append(wrong, fmt.Sprintf("%s missed %s", f, t))
				break // one miss per filter: each is waited for
			}
		}
	}
	if _, err := p.Quiet(subscribers...); err != nil {
		return nil, err
	}
	for i, f := range filters {
		for _, e := range p.Messages(subscribers[i], from) {
			if !topic.Match(full(f), e.Topic()) {
				p.Decide(e)
				wrong = append(wrong, fmt.Sprintf("%s got %s", f, strings.ReplaceAll(e.Topic(), root, "~")))
			}
		}
		for _, t := range wildcardTopics {
			if copies := p.Arrivals(subscribers[i], from, full(t), t); len(copies) > 1 && qos == 0 ||
				len(copies) > 1 && !resent(copies) {
				p.Decide(copies...)
				wrong = append(wrong, fmt.Sprintf("%s got %s %d times", f, t, len(copies)))
			}
		}
		if got := p.Messages(subscribers[i], from); len(got) > 0 {
			p.Decide(got[0])
		}
	}
	return wrong, nil
}

// resent tells whether further copies may be resends of a broker that did not get our acknowledgement in time:
// at QoS 1 a message may come more than once (§4.3.2).
func resent(copies []*trace.Event) bool {
	for _, e := range copies[1:] {
		if !e.Publish().Dup {
			return false
		}
	}
	return true
}

// exactTopics are names that brokers were seen to change, and beside each a filter that only looks alike; ~
// stands for the check's own root.
var exactTopics = []struct{ name, alike string }{
	{
		"~/a.b.c",
		"~/a/b/c",
	}, {"~/ spaces both ends ", "~/spaces both ends"}, {"~/two  spaces", "~/two spaces"}, {"~/50%2F50", "~/50/50"},
	{`~/back\slash`, "~/back/slash"},
	{
		"~/colon:semi;comma,",
		"~/colon/semi;comma,",
	}, {"~/star/x", "~/star/*"}, {"~/*/x", "~/star-x/x"}, {"~/>", "~/gt"}, {"~/./x", "~/x"}, {"~/../x", "~/x"},
	{"~/0123456789", "~/123456789"},
	{
		"~/UPPER/Case",
		"~/UPPER/Cas",
	}, {"~/ÅNGSTRÖM", "~/ANGSTROM"}, {`~/"quoted"`, "~/quoted"}, {"~/hash-less/plus-less", "~/hash-less"},
	{"~/1/2/3/4/5/6/7/8/9/10/11/12/13/14/15/16/17/18/19/20", "~/1/2/3/4/5/6/7/8/9/10/11/12/13"},
}

func subscribeTopicExact(p *proof.Pass) error {
	publisher, exact, everything, alike := p.Client(
		"publisher",
	), p.Client(
		"exact",
	), p.Client(
		"everything",
	), p.Client(
		"alike",
	)
	if err := p.ConnectAll(publisher, exact, everything, alike); err != nil {
		return err
	}
	root := p.Topic("t")
	full := func(s string) string { return strings.ReplaceAll(s, "~", root) }
	if _, err := p.Subscribe(everything, root+"/#", 1); err != nil {
		return err
	}
	p.Step("subscribe to the very names, and with another client to filters that only look alike")
	var names []string
	refused := 0
	for _, x := range exactTopics {
		_, err := p.Subscribe(exact, full(x.name), 1)
		if err != nil && exact.Connected() && strings.Count(x.name, "/") > 15 { // very deep names need not be taken
			p.Note("a filter of %d levels is refused", strings.Count(full(x.name), "/")+1)
			refused++
			continue
		} else if err != nil {
			return err
		}
		if _, err := p.Subscribe(alike, full(x.alike), 1); err != nil {
			return err
		}
		names = append(names, x.name)
	}
	from := p.Mark()
	p.Step("publish to each name")
	for _, name := range names {
		sent, err := p.Publish(publisher, publish(full(name), "to "+name, p.Highest(1), false))
		if err != nil {
			return err
		}
		p.Decide(sent)
		for _, peer := range []*proof.Client{exact, everything} {
			if p.AwaitMessage(peer, from, full(name), "to "+name) == nil {
				return proof.Break(
					"%s published, the client with the filter %s: %s",
					name,
					map[bool]string{true: "#", false: name}[peer == everything],
					strings.ReplaceAll(p.Instead(peer, from, full(name), "to "+name), root, "~"),
				)
			}
		}
	}
	if _, err := p.Quiet(exact, alike); err != nil {
		return err
	}
	for _, e := range p.Messages(alike, from) {
		if !slices.ContainsFunc(
			exactTopics,
			func(x struct{ name, alike string }) bool { return topic.Match(full(x.alike), e.Topic()) },
		) {
			p.Decide(e)
			return proof.Break(
				"%s was passed on to a client whose filters only look alike",
				strings.ReplaceAll(e.Topic(), root, "~"),
			)
		}
	}
	if refused > 0 {
		return proof.Unsupport("very deep topics are refused; all others arrived as published")
	}
	p.Saw(
		"all %d names arrived as published, of up to %d levels",
		len(names),
		strings.Count(full(exactTopics[len(exactTopics)-1].name), "/")+1,
	)
	return nil
}
