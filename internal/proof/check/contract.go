package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks that are made from the contract. The standard leaves to the server what a login may do (3.1.1 §5.4.2, 5.0
// §5.4.2); what is demanded here is the contract.
var agreed = []*proof.Check{
	{Name: "contract.may-publish", Title: "who publishes by the contract may do so",
		Expected: "what the login of each publishing party publishes on the topics of its clauses reaches an observer",
		Sections: theContract, Needs: rightsNeeds, Requires: plainly, Run: mayPublish},
	{
		Name:     "contract.may-subscribe",
		Title:    "who consumes by the contract may read it",
		Expected: "what is published on the topics of a clause reaches the login of each consuming party, by the filters that it needs",
		Sections: theContract,
		Needs:    rightsNeeds,
		Requires: plainly,
		Run:      maySubscribe,
	},
	{
		Name:     "contract.nobody-else",
		Title:    "nobody may do more than the contract needs",
		Expected: "what other logins publish on a clause's topics reaches nobody, and they read none of it: pen 1 does not speak for pen 2",
		Sections: theContract,
		Needs:    rightsNeeds,
		Requires: append(plainly, "login.rights-publish", "login.rights-subscribe"),
		Run:      nobodyElse,
	},
	{
		Name:     "contract.delivered",
		Title:    "QoS and retain come through as agreed",
		Expected: "on topics like those of the contract, under a prefix: each clause's message at the agreed QoS, with its payload and properties; it greets a newcomer where it is agreed to be retained, and not where it is not",
		Sections: theContract,
		Needs:    proof.Needs{Least: 3},
		Requires: append(
			plainly,
			"qos.payload-exact",
			"retain.greets",
			"retain.live-flag",
			"retain.cleared",
			"property.passed",
			"limit.told-and-kept",
		),
		Run: agreedDelivered,
	},
	{
		Name:     "contract.presence",
		Title:    "presence comes and goes as agreed",
		Expected: "on topics like those of the contract, under a prefix: coming, leaving and lost as each presence clause has them, at its QoS, for who is there and for newcomers",
		Sections: theContract,
		Needs:    proof.Needs{Least: 3},
		Requires: append(
			plainly,
			"will.presence",
			"will.qos",
			"will.on-cut",
			"will.on-close",
			"will.not-on-goodbye",
			"retain.greets",
		),
		Run: agreedPresence,
	},
	{
		Name:     "contract.answered",
		Title:    "devices at work answer commands",
		Expected: "each command of which the contract has an example is answered by its clause, for the same parameters and in the agreed time, where its device is at work",
		Once:     true,
		Sections: theContract,
		Needs:    proof.Needs{Least: 2},
		Requires: []string{"contract.may-publish", "contract.may-subscribe", "retain.live-flag"},
		Run:      agreedAnswered,
	},
}

// plainly are the checks of the means that these ones use.
var plainly = []string{"qos.pairings", "qos.granted", "subscribe.wildcards", "subscribe.topic-exact"}

// theContract is what these checks rest on, where others rest on the standard.
var theContract = proof.Same("the contract", "the contract")

// rightsNeeds is an observer, and a reader and a writer for each of some logins side by side.
var rightsNeeds = proof.Needs{Least: 3, Wants: 13}

// right is what one login may do on the topics of one clause.
type right struct {
	speaker *proof.Speaker
	clause  *contract.Clause
	topic   string
	others  bool // the topic has another's parameters in it, where the login has its own
	filters []string
	// publishes and reads tell what the contract has it do there, and may what came of trying.
	publishes, reads bool
	// writesBy and readsBy tell that a topic or filter of another clause, which it needs, covers this one: then it may,
	// and need not.
	writesBy, readsBy    bool
	mayPublish, mayRead  answer
	publishWhy, readWhy  string
	publishSeen, readGot []*trace.Event
}

// answer is what came of trying.
type answer int

const (
	unknown answer = iota
	may
	mayNot
)

// matrix is what all logins may do on the topics of all clauses.
type matrix struct {
	rights []*right
	// out are the logins that were not let in, by name, with the reason.
	out map[string]string
}

// onTopics returns the contract where its own topics may be used.
func onTopics(p *proof.Pass) (*proof.Agreement, error) {
	a := p.Agreement()
	switch {
	case a == nil || len(a.Contract.Clauses) == 0:
		return nil, proof.Skip("there is no contract: a workspace has one")
	case !p.OnTopics():
		return nil, proof.Skip(
			"it publishes on the contract's own topics, which real devices hear: --on-contract-topics runs it",
		)
	}
	return a, nil
}

// values fills in the parameters of a clause: the login's own first, else one that the contract or another login has.
// Where others is set, what is the login's own is another's. ok is false where a value is not known.
func values(a *proof.Agreement, s *proof.Speaker, cl *contract.Clause, others bool) (out map[string]string, ok bool) {
	out = map[string]string{}
	for _, name := range cl.Topic.Parameters() {
		own := s.Values[name]
		if own != "" && !others {
			out[name] = own
			continue
		}
		known := a.Contract.Parameters[name].Listed()
		for i := range a.Speakers {
			if v := a.Speakers[i].Values[name]; v != "" {
				known = append(known, v)
			}
		}
		i := slices.IndexFunc(known, func(v string) bool { return v != own })
		if i < 0 {
			return nil, false
		}
		out[name] = known[i]
	}
	return out, true
}

// binds tells whether a parameter of the clause's topic is the login's own.
func binds(s *proof.Speaker, cl *contract.Clause) bool {
	return slices.ContainsFunc(cl.Topic.Parameters(), func(name string) bool { return s.Values[name] != "" })
}

// rightsOf lists what is to be tried with a login.
func rightsOf(a *proof.Agreement, s *proof.Speaker) (out []*right) {
	var writes, reads []string // the filters of what it needs
	for _, cl := range a.Contract.Clauses {
		if cl.From == s.Party && s.Party != "" {
			writes = append(writes, cl.Topic.Fill(s.Values))
		}
		if slices.Contains(cl.To, s.Party) {
			reads = append(reads, cl.Topic.Fill(s.Values))
		}
	}
	for _, cl := range a.Contract.Clauses {
		publishes, consumes := cl.From == s.Party && s.Party != "", slices.Contains(cl.To, s.Party)
		if own, ok := values(a, s, cl, false); ok {
			r := &right{speaker: s, clause: cl, topic: cl.Topic.Fill(own), publishes: publishes, reads: consumes}
			if r.filters = []string{r.topic, r.topic + "/#"}; consumes {
				r.filters = []string{cl.Topic.Fill(s.Values)}
			}
			out = append(out, r)
		}
		if !binds(s, cl) || !publishes && !consumes {
			continue
		}
		if other, ok := values(a, s, cl, true); ok {
			t := cl.Topic.Fill(other)
			out = append(out, &right{speaker: s, clause: cl, topic: t, others: true, filters: []string{t, t + "/#"}})
		}
	}
	for _, r := range out {
		covers := func(f string) bool { return topic.Match(f, r.topic) }
		r.writesBy, r.readsBy = !r.publishes &&
			slices.ContainsFunc(writes, covers), !r.reads &&
			slices.ContainsFunc(reads, covers)
	}
	return out
}

// measured is what all logins may do, found out once for the checks that ask.
func measured(p *proof.Pass) (*matrix, error) {
	a, err := onTopics(p)
	if err != nil {
		return nil, err
	}
	if len(a.Speakers) == 0 {
		return nil, proof.Skip("the broker knows no login beside the one that the checks come with")
	}
	return proof.Share(p, "rights", func() (*matrix, error) { return measure(p, a) })
}

// measure tries what all logins may do: they subscribe, then each publishes, then the observer, whose messages show who
// reads.
func measure(p *proof.Pass, a *proof.Agreement) (*matrix, error) {
	m := &matrix{out: map[string]string{}}
	observer := p.Client("observer")
	if _, err := p.Enter(observer); err != nil {
		return nil, err
	}
	watched := map[string]bool{}
	batch := max(1, (p.Room()-1)/2)
	for at := 0; at < len(a.Speakers); at += batch {
		var now []*tried
		for i := at; i < min(at+batch, len(a.Speakers)); i++ {
			s := &a.Speakers[i]
			x := &tried{p: p, rights: rightsOf(a, s), reader: p.Client("reader "+s.Login.Name, proof.Comes(s)),
				writer: p.Client("writer "+s.Login.Name, proof.Comes(s))}
			m.rights = append(m.rights, x.rights...)
			if _, err := p.Enter(x.reader); err != nil {
				m.out[s.Login.Name] = strings.TrimPrefix(err.Error(), "undecided: ")
				continue
			}
			now = append(now, x)
			for _, r := range x.rights {
				if watched[r.topic] {
					continue
				}
				watched[r.topic] = true
				if _, err := p.Subscribe(observer, r.topic, p.Highest(1)); err != nil {
					return nil, err
				}
			}
		}
		if err := together(p, observer, now); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// tried is one login under way.
type tried struct {
	p              *proof.Pass
	rights         []*right
	reader, writer *proof.Client
	granted        []packet.Subscription
	refused        map[string]string // filters, with how
}

// together tries some logins side by side.
func together(p *proof.Pass, observer *proof.Client, now []*tried) error {
	from := p.Mark()
	topics := map[string]bool{}
	for _, x := range now {
		p.Step("%s subscribes and publishes", strings.TrimPrefix(x.reader.Name, "reader "))
		if err := x.subscribe(); err != nil {
			return err
		}
		if err := x.publish(); err != nil {
			return err
		}
		for _, r := range x.rights {
			topics[r.topic] = true
		}
	}
	control := p.Text("observer " + fmt.Sprint(from)) // another for each batch
	p.Step("the observer publishes on %d topics of the contract, as a control, and to see who reads", len(topics))
	for t := range topics {
		if _, err := p.Publish(observer, publish(t, control, p.Highest(1), false)); err != nil {
			return err
		}
	}
	// Whatever must come is waited for; then all that may come late has had its time.
	heard := map[string]*trace.Event{}
	for t := range topics {
		heard[t] = p.AwaitMessage(observer, from, t, control)
	}
	until := time.Now().Add(arrivalTime)
	for _, x := range now {
		for _, r := range x.rights {
			if r.reads && heard[r.topic] != nil && x.refused[r.filters[0]] == "" {
				p.Await(x.reader, from, max(0, time.Until(until)), isMessageOn(r.topic, control))
			}
			if r.publishes && heard[r.topic] != nil && r.mayPublish == unknown {
				p.Await(observer, from, max(0, time.Until(until)), isMessageOn(r.topic, x.text()))
			}
		}
	}
	if _, err := p.Quiet(observer); err != nil {
		return err
	}
	for _, x := range now {
		x.conclude(observer, from, control, heard)
		x.reader.Disconnect(0)
		x.writer.Disconnect(0)
	}
	return nil
}

func isMessageOn(topic, text string) func(*trace.Event) bool {
	return func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Publish() != nil && e.Topic() == topic &&
			string(e.Publish().Payload) == text
	}
}

// text is what the login publishes.
func (x *tried) text() string { return x.p.Text(strings.TrimPrefix(x.reader.Name, "reader ")) }

// subscribe asks for all that the login needs, and for what it should not get. A broker may close the link on a filter:
// then what was granted is asked for anew.
func (x *tried) subscribe() error {
	x.refused = map[string]string{}
	var filters []string
	for _, r := range x.rights {
		filters = append(filters, r.filters...)
		if x.p.Version == packet.V5 && !r.reads {
			filters = append(
				filters,
				"$share/"+x.reader.ID+"/"+r.topic,
			) // a share of its own: who shares with others may get nothing
		}
	}
	slices.Sort(filters)
	for _, f := range slices.Compact(filters) {
		if strings.ContainsAny(f, "+#") && !x.p.Wildcards() {
			x.refused[f] = "the broker takes no wildcards"
			continue
		}
		sub := packet.Subscription{Filter: f, QoS: x.p.Highest(1)}
		codes, err := x.p.SubscribeAll(x.reader, sub)
		switch {
		case unsupported(err):
			x.refused[f] = err.Error()
		case err != nil && !x.reader.Connected():
			x.refused[f] = "the link is closed on SUBSCRIBE"
			if _, err := x.p.Enter(x.reader); err != nil {
				return err
			}
			if len(x.granted) > 0 {
				if _, err := x.p.SubscribeAll(x.reader, x.granted...); err != nil {
					return err
				}
			}
		case err != nil:
			return err
		case len(codes) != 1 || codes[0] >= 0x80:
			if x.refused[f] = "SUBACK without a code"; len(codes) == 1 {
				x.refused[f] = "SUBACK " + codes[0].In(packet.SUBACK, x.p.Version)
			}
		default:
			x.granted = append(x.granted, sub)
		}
	}
	return nil
}

// publish publishes on every topic once.
func (x *tried) publish() error {
	if _, err := x.p.Enter(x.writer); err != nil {
		return err
	}
	for _, r := range x.rights {
		if !x.writer.Connected() { // it was closed out, which is a way to refuse
			if _, err := x.p.Enter(x.writer); err != nil {
				return err
			}
		}
		sent, pub, err := x.p.Start(x.writer, publish(r.topic, x.text(), x.p.Highest(1), false))
		if err != nil {
			return err
		}
		r.publishSeen = append(r.publishSeen, sent)
		switch err := x.p.Complete(pub); {
		case err != nil && !x.writer.Connected():
			r.publishWhy = "the link is closed on it"
		case err != nil:
			_, why, _ := strings.Cut(err.Error(), r.topic+": ")
			r.publishWhy = "it is refused: " + why
		}
	}
	return nil
}

// conclude tells what the login may do by what arrived.
func (x *tried) conclude(observer *proof.Client, from uint64, control string, heard map[string]*trace.Event) {
	p := x.p
	for _, r := range x.rights {
		got := p.Await(observer, from, 0, isMessageOn(r.topic, x.text()))
		switch {
		case got != nil:
			r.mayPublish, r.publishSeen = may, append(r.publishSeen, got)
		case heard[r.topic] == nil:
			r.publishWhy = "what our own login publishes there does not come either"
		default:
			if r.mayPublish = mayNot; r.publishWhy == "" {
				r.publishWhy = "it is taken, and reaches nobody"
			}
		}
		read := p.Await(x.reader, from, 0, isMessageOn(r.topic, control))
		switch why := x.refused[r.filters[0]]; {
		case read != nil:
			r.mayRead, r.readGot = may, []*trace.Event{read}
		case heard[r.topic] == nil:
			r.readWhy = "what our own login publishes there does not come either"
		case !x.reader.Connected():
			r.readWhy = "its link was lost"
		default:
			if r.mayRead, r.readWhy = mayNot, why; why == "" {
				r.readWhy = "the filter is granted, and nothing comes by it"
			}
			r.readGot = []*trace.Event{heard[r.topic]}
		}
	}
}

// name is how a right is told: who does what on which topic; verb may be "".
func (r *right) name(verb string) string {
	who := r.speaker.Login.Name + verb
	if r.others {
		return fmt.Sprintf("%s on %s, another's", who, r.topic)
	}
	return who + " on " + r.topic
}

// mostNamed is how many of a kind are told one by one.
const mostNamed = 4

// naming lists some of many.
func naming(all []string) string {
	if len(all) > mostNamed {
		return fmt.Sprintf("%s; and %d more", strings.Join(all[:mostNamed], "; "), len(all)-mostNamed)
	}
	return strings.Join(all, "; ")
}

// excess is what logins may do beyond the contract: for each what it does, with the first topic and how many more.
type excess struct {
	who   []string
	first map[string]string
	count map[string]int
}

func (x *excess) add(r *right, verb string) {
	who := r.speaker.Login.Name + verb
	if x.count == nil {
		x.first, x.count = map[string]string{}, map[string]int{}
	}
	if x.count[who]++; x.count[who] == 1 {
		x.who = append(x.who, who)
		x.first[who] = r.name(verb)
	}
}

func (x *excess) String() string {
	var all []string
	for _, who := range x.who {
		text := x.first[who]
		if n := x.count[who]; n > 1 {
			text += fmt.Sprintf(" and %d more", n-1)
		}
		all = append(all, text)
	}
	return naming(all)
}

func mayPublish(p *proof.Pass) error {
	return granting(p, "publish", func(r *right) (bool, answer, string, []*trace.Event) {
		return r.publishes, r.mayPublish, r.publishWhy, r.publishSeen
	})
}

func maySubscribe(p *proof.Pass) error {
	return granting(p, "read", func(r *right) (bool, answer, string, []*trace.Event) {
		return r.reads, r.mayRead, r.readWhy, r.readGot
	})
}

// granting wants all logins that come by this listener to be able to do what the contract has them do.
func granting(
	p *proof.Pass,
	verb string,
	of func(*right) (should bool, is answer, why string, seen []*trace.Event),
) error {
	m, err := measured(p)
	if err != nil {
		return err
	}
	var lacking, unsure []string
	n := 0
	for _, r := range m.rights {
		should, is, why, seen := of(r)
		if !should || !r.speaker.Here {
			continue
		}
		out := m.out[r.speaker.Login.Name]
		switch n++; {
		case out != "":
			if text := fmt.Sprintf(
				"the login %s is not let in: %s",
				r.speaker.Login.Name,
				out,
			); !slices.Contains(
				unsure,
				text,
			) {
				unsure = append(unsure, text)
			}
		case is == may:
			p.Decide(seen...)
		case is == mayNot:
			p.Decide(seen...)
			lacking = append(lacking, fmt.Sprintf("%s (%s)", r.name(""), why))
		default:
			unsure = append(unsure, fmt.Sprintf("%s: %s", r.name(""), why))
		}
	}
	switch {
	case len(lacking) > 0:
		return proof.Break("who should %s and may not: %s", verb, naming(lacking))
	case len(unsure) > 0:
		return proof.Undecide("%s", naming(unsure))
	case n == 0:
		return proof.Skip("no login of a party that has to %s comes by this listener", verb)
	}
	p.Saw("%d of %d logins and topics", n, n)
	return nil
}

func nobodyElse(p *proof.Pass) error {
	m, err := measured(p)
	if err != nil {
		return err
	}
	a := p.Agreement()
	p.Show(m.table(a))
	if a.More > 0 {
		p.Note("%d logins more are of kinds of which others were tried", a.More)
	}
	var beyond excess
	var unsure []string
	n := 0
	for _, r := range m.rights {
		if why := m.out[r.speaker.Login.Name]; why != "" {
			p.Note("the login %s is not let in here, and may do nothing", r.speaker.Login.Name)
			continue
		}
		for _, x := range []struct {
			what   string
			exempt bool
			is     answer
			why    string
			seen   []*trace.Event
		}{{" publishes", r.publishes || r.writesBy, r.mayPublish, r.publishWhy, r.publishSeen}, {" reads", r.reads || r.readsBy, r.mayRead, r.readWhy, r.readGot}} {
			switch {
			case x.exempt:
			case x.is == may:
				p.Decide(x.seen...)
				beyond.add(r, x.what)
			case x.is == unknown:
				unsure = append(unsure, r.name(x.what)+": "+x.why)
			default:
				n++
				p.Decide(x.seen...)
			}
		}
	}
	switch {
	case len(beyond.who) > 0 && a.Unrestricted != "":
		p.Note("accepted, because %s: %s", a.Unrestricted, &beyond)
	case len(beyond.who) > 0:
		return proof.Break("who may, and should not by the contract: %s", &beyond)
	case len(unsure) > 0:
		return proof.Undecide("%s", naming(unsure))
	case n == 0:
		return proof.Skip("no login has a clause that it has no part in")
	}
	p.Saw("%d times nothing came of it", n)
	return nil
}
