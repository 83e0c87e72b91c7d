package record

import (
	"strings"
	"testing"
	"time"
)

// TestTimeStampsAreUnderstood: what the lines of a log say of its clock, in the forms that logs have.
func TestTimeStampsAreUnderstood(t *testing.T) {
	now := time.Date(2026, 1, 1, 0, 0, 3, 400_000_000, time.FixedZone("here", 3600))
	for line, want := range map[string]string{
		"1767222003: New connection":             "its time stamps are epoch seconds; its clock is ours within 1.1s",
		"1767222003.390: New connection":         "its time stamps are epoch seconds; its clock is ours within 100ms",
		"1767225603390 late":                     "its time stamps are epoch seconds; its clock is 59m59.99s ahead of ours, within 100ms",
		"2025-12-31T23:00:03.395Z up":            "its time stamps are RFC 3339; its clock is ours within 100ms",
		"[2025-12-31 23:30:03,400+01:00] up":     "its time stamps are RFC 3339; its clock is 30m0s behind ours, within 100ms",
		"<34>1 2026-01-01T00:00:03+01:00 host x": "its time stamps are RFC 3339; its clock is ours within 1.1s",
		"2026-01-01 02:00:03 up":                 "without a zone, taken for ours; its clock is 2h0m0s ahead of ours, within 1.1s: another time zone?",
		"Dec 31 23:00:03 quay broker: x":         "its time stamps are syslog; its clock is 1h0m0s behind ours, within 1.1s: another time zone?",
		"<12>Jan  1 00:00:03 quay x":             "its time stamps are syslog; its clock is ours within 1.1s",
		"I (41234) wifi: connected":              "",
		"12345: a counter":                       "",
		"17672220031234567 no time":              "",
		"2026-13-41T99:00:00Z no date":           "",
	} {
		if got := (&offset{}).seen(line, now); (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("%q: %q, want %q", line, got, want)
		}
	}

	// What is read late does not move the clock; what is read sooner than before does, and a jump is told.
	var o offset
	said := 0
	for _, x := range []struct {
		stamp string
		tells bool
	}{
		{"1767222000", true}, {"1767222002", false}, {"1767222003", true}, {"1767221903", false}, {"1767222033", true},
	} {
		if got := o.seen(x.stamp+": x", now); (got != "") != x.tells {
			t.Errorf("%s: %q", x.stamp, got)
		}
		said++
	}
	if !strings.Contains(o.String(), "30s ahead of ours") {
		t.Error(o.String())
	}
}
