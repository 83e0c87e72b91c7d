package record

import (
	"regexp"
	"slices"
	"strings"
	"time"
)

// LogClient is a client as a broker's log tells of it.
type LogClient struct {
	ID, Address string // the address is "" where the log does not say
	Connected   bool
	Since       time.Time // by our clock: when the line came
	Why         string    // how it ended, as the log says
}

// The lines of brokers' logs that tell of clients. There is no standard for them: these are the wordings that are told
// apart, in plain sentences and in key=value or JSON form.
var (
	logCame = regexp.MustCompile(`(?i)\bclient (?:has )?connected from (\S+) as (\S+)`)
	logLeft = regexp.MustCompile(
		`(?i)\bclient (\S+) (?:\[[^\]]*\] )?((?:disconnected|closed its connection|has exceeded timeout|already connected|timed out|was disconnected).*)`,
	)
	logKey  = regexp.MustCompile(`(?i)"?\bclient[-_ ]?id"?\s*[:=]\s*"?([^\s",;}\]]+)`)
	logAddr = regexp.MustCompile(
		`(?i)"?\b(?:peer(?:[-_ ]?name|[-_ ]?address)?|remote(?:[-_ ]?addr(?:ess)?)?|addr(?:ess)?|ip)"?\s*[:=]\s*"?([^\s",;}]+)`,
	)
	logIn  = regexp.MustCompile(`(?i)\bconnected\b`)
	logOut = regexp.MustCompile(`(?i)\b(?:disconnected|disconnect|closed|timed out|terminated|kicked|discarded)\b`)
)

// maxLogClients is how many clients of a log are kept; those that left first go first.
const maxLogClients = 20_000

// LogClients are the clients that a broker's log tells of. The zero value knows none.
type LogClients struct {
	all map[string]*LogClient
}

// Line takes in a line of the log, and tells whether it spoke of a client that came or left.
func (l *LogClients) Line(text string, at time.Time) bool {
	if m := logCame.FindStringSubmatch(text); m != nil {
		l.put(LogClient{ID: m[2], Address: m[1], Connected: true, Since: at})
		return true
	}
	if m := logLeft.FindStringSubmatch(text); m != nil {
		why := strings.TrimRight(m[2], ". ")
		if strings.HasPrefix(
			strings.ToLower(why),
			"already connected",
		) { // the old link is closed for a new one, which stays
			return false
		}
		if strings.HasPrefix(m[1], "<") { // it never said who it is
			return false
		}
		l.left(m[1], why, at)
		return true
	}
	m := logKey.FindStringSubmatch(text)
	if m == nil {
		return false
	}
	addr := ""
	if a := logAddr.FindStringSubmatch(text); a != nil {
		addr = a[1]
	}
	switch {
	case logOut.MatchString(text):
		l.left(m[1], logOut.FindString(text), at)
	case logIn.MatchString(text):
		l.put(LogClient{ID: m[1], Address: addr, Connected: true, Since: at})
	default:
		return false
	}
	return true
}

func (l *LogClients) left(id, why string, at time.Time) {
	c := LogClient{ID: id, Since: at, Why: why}
	if old := l.all[id]; old != nil {
		c.Address = old.Address
	}
	l.put(c)
}

func (l *LogClients) put(c LogClient) {
	if l.all == nil {
		l.all = map[string]*LogClient{}
	}
	if l.all[c.ID] == nil && len(l.all) >= maxLogClients {
		var oldest *LogClient
		for _, x := range l.all {
			if oldest == nil || !x.Connected && oldest.Connected ||
				x.Connected == oldest.Connected && x.Since.Before(oldest.Since) {
				oldest = x
			}
		}
		delete(l.all, oldest.ID)
	}
	l.all[c.ID] = &c
}

// All are the clients by their identifiers.
func (l *LogClients) All() (out []LogClient) {
	for _, c := range l.all {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b LogClient) int { return strings.Compare(a.ID, b.ID) })
	return out
}
