// Package model says what MQTT lets a broker do: a state of sessions, stored messages, wills and flows, and rules of
// the standard, each of which says what may and must follow. Where the standard leaves a choice the model allows all of
// it, and where it is unsure it says nothing. It carries no packets: whoever drives a broker tells it what was done and
// what came.
package model

import "fmt"

// Rule is one rule of the standard that a broker can be seen to break.
type Rule struct {
	Name string
	// Text says what the rule demands.
	Text string
	// V311 and V5 are the sections of 3.1.1 and 5.0.
	V311, V5 string
}

// The rules.
var (
	Delivered = Rule{
		"delivered",
		"a message reaches each session with a subscription that matches",
		"3.3.5",
		"3.3.4",
	}
	Unasked    = Rule{"unasked", "a message reaches nobody without a subscription that matches", "3.3.5", "3.3.4"}
	OwnMessage = Rule{"no-local", "a subscription with no local gets no message of its own client", "", "3.8.3.1"}
	Twice      = Rule{
		"twice",
		"a message comes once, or once for each subscription that matches; at QoS 2 exactly so",
		"4.3",
		"4.3",
	}
	QoSOfCopy      = Rule{"qos", "a copy has the lower QoS of message and subscription", "3.8.4", "3.8.4"}
	FlagOfCopy     = Rule{"retain-flag", "the retain flag tells a stored message from a live one", "3.3.1.3", "3.3.1.3"}
	TopicOfCopy    = Rule{"topic", "a copy has the topic that it was published under", "3.3.2.1", "3.3.2.1"}
	PayloadOfCopy  = Rule{"payload", "a copy has the payload that was published, byte for byte", "3.3.3", "3.3.3"}
	PropertyOfCopy = Rule{"properties", "a copy has the properties that the standard passes on", "", "3.3.2.3"}
	FirstDup       = Rule{"dup", "DUP is 0 the first time a message is sent", "3.3.1.1", "3.3.1.1"}
	Resent         = Rule{
		"resent",
		"what was not acknowledged comes again when the session is resumed, with DUP and its identifier",
		"4.4",
		"4.4",
	}
	ResentEarly = Rule{"resent-early", "nothing is sent again on a connection that stands", "", "4.4"}
	IDInUse     = Rule{
		"identifier",
		"a packet identifier is not used anew before its flow is complete",
		"2.3.1",
		"2.2.1",
	}
	Order        = Rule{"order", "messages of one publisher, topic and QoS come in their order", "4.6", "4.6"}
	Window       = Rule{"receive-maximum", "no more messages are under way than the receive maximum", "", "4.9"}
	StoredGreets = Rule{"stored", "what is stored greets a new subscription that matches", "3.3.1.3", "3.3.1.3"}
	StoredWrong  = Rule{
		"stored-wrong",
		"only the last retained message of a topic greets, once, where it was not cleared",
		"3.3.1.3",
		"3.3.1.3",
	}
	Acknowledged = Rule{"acknowledged", "what a client sends is acknowledged as its QoS demands", "4.3", "4.3"}
	Answered     = Rule{
		"answered",
		"CONNECT, SUBSCRIBE and UNSUBSCRIBE are answered, with a code for each filter that grants no more than was asked",
		"3.9.3",
		"3.9.3",
	}
	Present  = Rule{"session-present", "session present tells whether a session goes on", "3.2.2.2", "3.2.2.1.1"}
	Cleaned  = Rule{"session-ended", "nothing of a session comes after it ended", "3.1.2.4", "3.1.2.4"}
	Waited   = Rule{"waited", "messages at QoS 1 and 2 wait for a session whose client is away", "3.1.2.4", "4.1"}
	WillSent = Rule{
		"will",
		"a will is published when its client is gone without DISCONNECT",
		"3.1.2.5",
		"3.1.2.5",
	}
	WillKept   = Rule{"no-will", "no will is published after DISCONNECT", "3.14.4", "3.14.4"}
	TakenOver  = Rule{"taken-over", "a client whose identifier another takes is thrown out", "3.1.4", "3.1.4"}
	Ended      = Rule{"ended", "the connection of a client that breaks a rule is closed", "4.8", "4.13"}
	Released   = Rule{"released", "PUBREC is followed by PUBREL, and PUBREL by PUBCOMP", "4.3.3", "4.3.3"}
	StaysOpen  = Rule{"connection", "a connection that breaks no rule stays open", "4.8", "4.13"}
	WellFormed = Rule{"well-formed", "packets are as the standard writes them", "2", "2"}
	Shared     = Rule{"shared", "one member of a share gets a message, and one alone", "", "4.8.2"}
)

// Rules lists them all.
func Rules() []*Rule {
	return []*Rule{
		&Delivered,
		&Unasked,
		&OwnMessage,
		&Twice,
		&QoSOfCopy,
		&FlagOfCopy,
		&TopicOfCopy,
		&PayloadOfCopy,
		&PropertyOfCopy,
		&FirstDup,
		&Resent,
		&ResentEarly,
		&IDInUse,
		&Order,
		&Window,
		&StoredGreets,
		&StoredWrong,
		&Acknowledged,
		&Answered,
		&Present,
		&Cleaned,
		&Waited,
		&WillSent,
		&WillKept,
		&TakenOver,
		&Ended,
		&Released,
		&StaysOpen,
		&WellFormed,
		&Shared,
	}
}

// Violation is a rule that was seen to be broken.
type Violation struct {
	Rule *Rule
	Text string
}

// Error says it.
func (v *Violation) Error() string { return v.Rule.Name + ": " + v.Text }

func broken(r *Rule, format string, args ...any) *Violation {
	return &Violation{r, fmt.Sprintf(format, args...)}
}
