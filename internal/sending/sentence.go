// Package sending reads and writes a message that a person sends by hand as one sentence, says what the contract makes of
// it, and what its last word may go on as.
//
//	as shore send {"run":true,"rate":12} to feeder.set of pen 2 at QoS 1, every 2s, 10 times
package sending

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
)

// Sentence is a message by hand as it is typed.
type Sentence struct {
	// As is the device or the party that it is sent as; "" for Hodstone's own client.
	As string
	// Payload is what was typed for it; Nothing tells that it is empty on purpose.
	Payload string
	Nothing bool
	// To is a clause or a topic name.
	To string
	// Of are the values of the topic's parameters.
	Of map[string]string
	// QoS and Retain stand in place of the clause's; nil for those.
	QoS    *packet.QoS
	Retain *bool
	// On is the broker; "" for the sender's own.
	On string
	// Every is the time between one and the next, 0 for one alone; Times is how many, 0 for without end.
	Every time.Duration
	Times int
}

// The bounds of what is sent again and again.
const (
	minEvery = 10 * time.Millisecond
	maxTimes = 1_000_000
)

// nothing is the word for an empty payload.
const nothing = "nothing"

// part is a word of a sentence, and where it ends in the text.
type part struct {
	text string
	end  int
}

// Read reads a sentence. What it says is read as far as it can be, so that half of one tells something too; the error
// says what is missing or wrong, and how to go on.
func Read(text string) (*Sentence, error) {
	s := &Sentence{Of: map[string]string{}}
	rest := strings.TrimLeft(text, " ")
	if after, is := strings.CutPrefix(rest, "as "); is {
		name, more, ok := strings.Cut(strings.TrimLeft(after, " "), " ")
		if s.As = name; !ok {
			return s, errors.New("go on with: send PAYLOAD to CLAUSE")
		}
		rest = strings.TrimLeft(more, " ")
	}
	after, is := strings.CutPrefix(rest, "send ")
	if !is {
		return s, errors.New(`begin with: as PARTY send PAYLOAD to CLAUSE, or: send PAYLOAD to TOPIC`)
	}
	body, more, ok := cutPayload(strings.TrimLeft(after, " "))
	s.Payload = body
	if body == nothing {
		s.Payload, s.Nothing = "", true
	}
	if !ok && strings.HasPrefix(s.Payload, "to ") {
		return s, errors.New("send what? a payload, or nothing")
	}
	if !ok {
		return s, errors.New("go on with: to CLAUSE, or: to TOPIC")
	}
	return s, s.tail(more)
}

// cutPayload takes the payload off what follows "send"; rest is what stands behind "to". ok is false where there is no
// "to" yet.
func cutPayload(text string) (body, rest string, ok bool) {
	if end := closes(text); end > 0 {
		if more := strings.TrimLeft(text[end:], " \n"); more == "" {
			return text[:end], "", false
		} else if after, is := strings.CutPrefix(more+" ", "to "); is {
			return text[:end], after, true
		}
	}
	// A text may have the word in it too: the last one that stands for itself is meant.
	if i := strings.LastIndex(text+" ", " to "); i >= 0 {
		return strings.TrimRight(text[:i], " "), text[min(len(text), i+4):], true
	}
	return text, "", false
}

// closes tells where a bracket or a quote that a text begins with is closed; 0 where it does not begin with one, or
// none closes it.
func closes(text string) int {
	if text == "" || !strings.ContainsRune(`{["`, rune(text[0])) {
		return 0
	}
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			depth--
		}
		if depth == 0 && !quoted {
			return min(i+1, len(text))
		}
	}
	return 0
}

// split cuts what follows "to" into words; commas end words, and quotes keep one together.
func split(text string) (out []part) {
	for i := 0; i < len(text); {
		if text[i] == ' ' || text[i] == ',' {
			i++
			continue
		}
		if text[i] == '"' {
			if q, err := strconv.QuotedPrefix(text[i:]); err == nil {
				word, _ := strconv.Unquote(q)
				i += len(q)
				out = append(out, part{word, i})
				continue
			}
		}
		end := i + strings.IndexAny(text[i:]+" ", " ,")
		out = append(out, part{text[i:end], end})
		i = end
	}
	return out
}

// tail reads what follows "to".
func (s *Sentence) tail(text string) error {
	words := split(text)
	if len(words) == 0 {
		return errors.New("to which clause, or which topic?")
	}
	s.To = words[0].text
	words = words[1:]
	of := false // "of pen 2, silo a" goes on until another word begins
	for len(words) > 0 {
		w := words[0].text
		next := func(i int) string {
			if i < len(words) {
				return words[i].text
			}
			return ""
		}
		took := 1
		switch {
		case w == "of":
			of = true
		case w == "at":
			q := strings.TrimPrefix(next(1), "QoS")
			took = 2
			if q == "" {
				q, took = next(2), 3
			}
			n, err := strconv.Atoi(q)
			if err != nil || n < 0 || n > 2 || !strings.HasPrefix(next(1), "QoS") {
				return errors.New("at QoS 0, 1 or 2")
			}
			level := packet.QoS(n)
			s.QoS, of = &level, false
		case w == "retained":
			is := true
			s.Retain, of = &is, false
		case w == "not" && next(1) == "retained":
			is := false
			s.Retain, of, took = &is, false, 2
		case w == "on":
			if s.On, took, of = next(1), 2, false; s.On == "" {
				return errors.New("on which broker?")
			}
		case w == "every":
			d, err := time.ParseDuration(next(1))
			if err != nil || d < minEvery {
				return fmt.Errorf("every how long? 2s or 500ms, %s at least", minEvery)
			}
			s.Every, took, of = d, 2, false
		case next(1) == "times":
			n, err := strconv.Atoi(w)
			if err != nil || n < 1 || n > maxTimes {
				return fmt.Errorf("how many times? 1 to %d", maxTimes)
			}
			s.Times, took, of = n, 2, false
		case of && next(1) != "":
			s.Of[w], took = next(1), 2
		case of:
			return fmt.Errorf("of which %s?", w)
		default:
			return fmt.Errorf("%q is nothing that a sentence goes on with: of, at QoS, retained, on, every, times", w)
		}
		words = words[min(took, len(words)):]
	}
	if s.Times > 1 && s.Every == 0 {
		return errors.New("every how long? add: every 2s")
	}
	return nil
}

// String writes the sentence.
func (s *Sentence) String() string {
	var b strings.Builder
	if s.As != "" {
		fmt.Fprintf(&b, "as %s ", s.As)
	}
	body := s.Payload
	if s.Nothing || body == "" {
		body = nothing
	}
	fmt.Fprintf(&b, "send %s to %s", body, word(s.To))
	for i, name := range sorted(s.Of) {
		lead := ", "
		if i == 0 {
			lead = " of "
		}
		fmt.Fprintf(&b, "%s%s %s", lead, word(name), word(s.Of[name]))
	}
	if s.QoS != nil {
		fmt.Fprintf(&b, " at QoS %d", *s.QoS)
	}
	if s.Retain != nil {
		b.WriteString(map[bool]string{true: ", retained", false: ", not retained"}[*s.Retain])
	}
	if s.On != "" {
		fmt.Fprintf(&b, ", on %s", word(s.On))
	}
	if s.Every > 0 {
		fmt.Fprintf(&b, ", every %s", s.Every)
	}
	if s.Times > 0 {
		fmt.Fprintf(&b, ", %d times", s.Times)
	}
	return b.String()
}

// word quotes what a sentence would read as more or less than a word.
func word(s string) string {
	if s == "" || strings.ContainsAny(s, ` ,"`) || strings.ContainsFunc(s, func(r rune) bool { return r < ' ' }) {
		return strconv.Quote(s)
	}
	return s
}

func sorted(m map[string]string) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Order is a message that can be sent, and what the contract says of it.
type Order struct {
	Sentence
	Clause  *contract.Clause // nil where no clause covers the topic
	Topic   string
	Payload []byte
	QoS     packet.QoS
	Retain  bool
	// Party is what it is sent as, where that is known, and Speaker the device, "" for none.
	Party, Speaker string
	// Breaches are what it breaks of the contract; Near is the clause that a stray may have been meant for.
	Breaches []contract.Breach
	Near     string
}

// Actor is a device that can be sent as.
type Actor struct {
	Name, Party string
	Params      map[string]string
	Connected   bool
}

// Order works out what is to be sent. The error says what is missing.
func (s *Sentence) Order(c *contract.Contract, actors []Actor) (*Order, error) {
	o := &Order{Sentence: *s, Topic: s.To}
	o.Clause = c.Clause(s.To)
	if o.Clause == nil {
		o.Clause, _ = c.Find(s.To)
	}
	unread := o.body() // before all else, so that its fields can be told of in half a sentence
	if o.Clause != nil && o.Clause.Name == s.To {
		name, err := o.Clause.Topic.Topic(s.Of)
		if err != nil {
			return o, fmt.Errorf("%w: add: of %s", err, strings.Join(o.Clause.Topic.Parameters(), " …, ")+" …")
		}
		for name := range s.Of {
			if !slices.Contains(o.Clause.Topic.Parameters(), name) {
				return o, fmt.Errorf("the topic of %s has no {%s}", o.Clause.Name, name)
			}
		}
		o.Topic = name
	} else if len(s.Of) > 0 {
		return o, fmt.Errorf("no clause is called %s, and a topic has no parameters%s", s.To, meant(c, s.To))
	}
	if err := topic.CheckName(o.Topic); err != nil {
		return o, err
	}
	if err := o.speaker(c, actors); err != nil {
		return o, err
	}
	if unread != nil {
		return o, unread
	}
	if cl := o.Clause; cl != nil {
		o.Retain = cl.Retain != nil && *cl.Retain
		if cl.QoS != nil {
			o.QoS = *cl.QoS
		}
	}
	if s.QoS != nil {
		o.QoS = *s.QoS
	}
	if s.Retain != nil {
		o.Retain = *s.Retain
	}
	return o, nil
}

// meant tells of a clause that may have been meant.
func meant(c *contract.Contract, to string) string {
	for i := range c.Clauses {
		if name := c.Clauses[i].Name; strings.HasPrefix(name, to) || strings.HasPrefix(to, name) {
			return ": is " + name + " meant?"
		}
	}
	return ""
}

// speaker finds who sends: the device that is named, or one that plays the party for these parameters.
func (o *Order) speaker(c *contract.Contract, actors []Actor) error {
	if o.As == "" {
		return nil
	}
	for i := range actors {
		if a := &actors[i]; a.Name == o.As && (a.Connected || c.Party(o.As) == nil) {
			o.Speaker, o.Party = a.Name, a.Party
			if !a.Connected {
				return fmt.Errorf("%s is not connected: start it first, or send as a party", a.Name)
			}
			return nil
		}
	}
	if c.Party(o.As) == nil {
		var all []string
		for i := range c.Parties {
			all = append(all, c.Parties[i].Name)
		}
		return fmt.Errorf("there is no device and no party %s: the parties are %s", o.As, strings.Join(all, ", "))
	}
	o.Party = o.As
	for i := range actors {
		a := &actors[i]
		if a.Party == o.As && a.Connected && !slices.ContainsFunc(sorted(o.Of), func(name string) bool {
			return a.Params[name] != "" && a.Params[name] != o.Of[name]
		}) {
			o.Speaker = a.Name
			return nil
		}
	}
	return nil
}

// body makes the payload of what was typed.
func (o *Order) body() (err error) {
	typed := o.Sentence.Payload
	switch {
	case o.Nothing:
		return nil
	case typed == "":
		return errors.New("send what? a payload, or nothing")
	case o.Clause == nil:
		o.Payload = []byte(plainText(typed))
		return nil
	case o.Clause.Payload.Format == payload.Text || o.Clause.Payload.Format == payload.Number:
		typed = plainText(typed)
	}
	o.Payload, err = o.Clause.Payload.Read(typed)
	return err
}

// plainText takes the quotes off a text that has them for its spaces or control characters.
func plainText(typed string) string {
	if strings.HasPrefix(typed, `"`) {
		if s, err := strconv.Unquote(typed); err == nil {
			return s
		}
	}
	return typed
}
