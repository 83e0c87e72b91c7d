package record

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// The time stamps that lines of logs begin with: seconds or milliseconds since 1970, RFC 3339 with T or a space, and the
// syslog of RFC 3164, which names neither year nor zone.
var (
	epochStamp = regexp.MustCompile(`^\[?(\d{10})(?:[.,](\d{1,9})|(\d{3}))?\]?[:,\s]`)
	isoStamp   = regexp.MustCompile(
		`^(?:<\d{1,3}>\d? ?)?\[?(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d:\d\d)(?:[.,](\d{1,9}))?(Z|[+-]\d\d:?\d\d)?\]?`,
	)
	syslogStamp = regexp.MustCompile(`^(?:<\d{1,3}>)?([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) `)
)

// stampOf reads the time that a line begins with, how finely it is told, and what it is written as; ok is false for none.
func stampOf(line string, now time.Time) (at time.Time, fine time.Duration, form string, ok bool) {
	if m := epochStamp.FindStringSubmatch(line); m != nil {
		seconds, _ := strconv.ParseInt(m[1], 10, 64)
		rest := m[2] + m[3]
		nanos, _ := strconv.ParseInt((rest + "000000000")[:9], 10, 64)
		return time.Unix(seconds, nanos), fineness(rest), "epoch seconds", true
	}
	if m := isoStamp.FindStringSubmatch(line); m != nil {
		layout, text, zone := "2006-01-02 15:04:05", m[1]+" "+m[2], m[4]
		form := "RFC 3339"
		loc := now.Location()
		if zone == "" {
			form = "a date and time without a zone, taken for ours"
		} else if zone != "Z" {
			layout, text = layout+"Z0700", text+strings.ReplaceAll(zone, ":", "")
		} else {
			loc = time.UTC
		}
		at, err := time.ParseInLocation(layout, text, loc)
		if err != nil {
			return at, 0, "", false
		}
		nanos, _ := strconv.ParseInt((m[3] + "000000000")[:9], 10, 64)
		return at.Add(time.Duration(nanos)), fineness(m[3]), form, true
	}
	if m := syslogStamp.FindStringSubmatch(line); m != nil {
		at, err := time.ParseInLocation("Jan _2 15:04:05", m[1], now.Location())
		if err != nil {
			return at, 0, "", false
		}
		at = at.AddDate(now.Year(), 0, 0)
		const halfYear = 183 * 24 * time.Hour
		if at.Sub(now) > halfYear { // around New Year
			at = at.AddDate(-1, 0, 0)
		} else if now.Sub(at) > halfYear {
			at = at.AddDate(1, 0, 0)
		}
		return at, time.Second, "syslog", true
	}
	return at, 0, "", false
}

// fineness is how finely so many digits behind the second tell the time.
func fineness(digits string) time.Duration {
	d := time.Second
	for range digits {
		d /= 10
	}
	return max(d, 1)
}

// offset estimates how far a log's clock is from ours: a line is read some time after it was written, and its stamp is
// cut to what it tells; so the smallest difference that was seen is nearest to the truth.
type offset struct {
	least time.Duration // of reading a line after its stamp
	fine  time.Duration
	form  string
	lines int
	told  bool
	said  time.Duration
}

// worthTelling is how far a clock may be off before it is told; less is the delay of reading.
const worthTelling = 2 * time.Second

// seen takes a line in, and returns what is to be said of the clock; "" for nothing new.
func (o *offset) seen(line string, now time.Time) string {
	at, fine, form, ok := stampOf(line, now)
	if !ok {
		return ""
	}
	if d := now.Sub(at); o.lines == 0 || d < o.least || form != o.form {
		o.least, o.fine, o.form = d, fine, form
	}
	o.lines++
	if off := -o.least; !o.told || (off-o.said).Abs() > worthTelling {
		o.told, o.said = true, off
		return o.String()
	}
	return ""
}

// String says how far the clock is off, and how well that is known.
func (o *offset) String() string {
	off := -o.least
	sure := (o.fine + 2*followEvery).Round(10 * time.Millisecond)
	if off.Abs() <= max(worthTelling, sure) {
		return fmt.Sprintf(
			"its time stamps are %s; its clock is ours within %s",
			o.form,
			max(sure, off.Abs().Round(10*time.Millisecond)),
		)
	}
	how := "ahead of"
	if off < 0 {
		how = "behind"
	}
	text := fmt.Sprintf(
		"its time stamps are %s; its clock is %s %s ours, within %s",
		o.form,
		off.Abs().Round(max(10*time.Millisecond, o.fine)),
		how,
		sure,
	)
	if zone := off.Abs().
		Round(15 * time.Minute); zone > 0 && (off.Abs()-zone).Abs() < time.Minute && o.form != "epoch seconds" &&
		o.form != "RFC 3339" {
		text += ": another time zone?"
	}
	return text
}
