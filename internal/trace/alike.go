package trace

import (
	"hash/maphash"
	"math/bits"
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
)

// journeyAge is how long a message may take to a receiver and still be matched. After
// longer waits, those of absent clients, the sender counts as unknown: another client
// may have sent the same again by then.
const journeyAge = 10 * time.Second

// alike are messages with the same topic and payload that may still arrive somewhere,
// oldest first.
type alike struct {
	key   alikeKey
	chain *alike // the next in its place of the table
	all   []*Journey
	first time.Time // when the oldest was sent
	gone  int       // how many were taken away at the front
	// Those before a place have reached a receiver: that of the one that asked first, and by the others' names.
	// Places are counted with the gone.
	who   string
	place int
	next  map[string]int
	one   [1]*Journey // room for the first of all, which most are alone
}

// fresh takes away what is too old to be matched.
func (a *alike) fresh(now time.Time) {
	for len(a.all) > 0 && now.Sub(a.first) > journeyAge {
		a.drop()
	}
}

func (a *alike) drop() {
	a.all[0].in = nil
	a.all[0] = nil
	a.all = a.all[1:]
	a.gone++
	a.begins()
}

func (a *alike) begins() {
	if len(a.all) > 0 {
		a.first = a.all[0].SentAt
	}
}

// take takes one out, wherever it stands.
func (a *alike) take(j *Journey) {
	switch i := slices.Index(a.all, j); {
	case i == 0:
		a.drop()
	case i > 0:
		j.in = nil
		a.all = slices.Delete(slices.Clone(a.all), i, i+1)
		a.who, a.place, a.next = "", 0, nil // places have changed: they are found again
	}
}

// reached returns the place before which all have reached a receiver, and moved sets it.
func (a *alike) reached(client string) int {
	if a.who == client {
		return a.place
	}
	return a.next[client]
}

func (a *alike) moved(client string, place int) {
	switch {
	case a.who == client || a.who == "":
		a.who, a.place = client, place
	case a.next == nil:
		a.next = map[string]int{client: place}
	default:
		a.next[client] = place
	}
}

// arrive returns the oldest that fits and has not reached the receiver, or nil.
func (a *alike) arrive(client string, qos packet.QoS, since uint64) *Journey {
	if len(a.all) == 1 { // as most are
		j := a.all[0]
		if qos > j.QoS || j.SentSeq <= since && !j.Will || j.reached(client) {
			return nil
		}
		if a.who == "" || a.who == client { // it reaches it now
			a.who, a.place = client, a.gone+1
		}
		return j
	}
	i := max(0, a.reached(client)-a.gone)
	for i < len(a.all) && a.all[i].reached(client) {
		i++
	}
	a.moved(client, i+a.gone)
	for ; i < len(a.all); i++ {
		if j := a.all[i]; qos <= j.QoS && (j.SentSeq > since || j.Will) && !j.reached(client) {
			return j
		}
	}
	return nil
}

// alikeKey is a topic and a payload, by their lengths and hashes, so that they are not held, nor compared byte by byte.
type alikeKey struct{ lengths, topic, payload uint64 }

// table finds messages that are alike by their key, which is a hash already. It has places for more journeys than
// are kept.
type table struct {
	places []*alike // those of a place are chained
	bits   uint64
}

func newTable(most int) table {
	const room = 4 // so that places are seldom shared
	n := 1 << bits.Len(uint(max(1, room*most)))
	return table{make([]*alike, n), uint64(n - 1)}
}

func (t *table) place(k alikeKey) **alike { return &t.places[(k.payload^k.topic)&t.bits] }

func (t *table) find(k alikeKey) *alike {
	a := *t.place(k)
	for a != nil && a.key != k {
		a = a.chain
	}
	return a
}

func (t *table) put(a *alike) {
	p := t.place(a.key)
	a.chain, *p = *p, a
}

func (t *table) cut(a *alike) {
	p := t.place(a.key)
	for *p != nil && *p != a {
		p = &(*p).chain
	}
	if *p == a {
		*p = a.chain
	}
}

var alikeSeed = maphash.MakeSeed()

func key(topic string, payload []byte) alikeKey {
	const far = 32 // a topic has 65,535 bytes at most
	return alikeKey{
		uint64(len(topic)) | uint64(len(payload))<<far,
		maphash.String(alikeSeed, topic),
		maphash.Bytes(alikeSeed, payload),
	}
}
