package prooftest

import (
	"slices"
	"strings"

	"hodstone/internal/proof"
)

// deviations of Debian's broker from the standard, as docs/deviations.md tells them with their packets: by check, what may be
// seen of each.
var deviations = map[string][]string{
	"qos.flow-control":  {"messages came for one acknowledgement"},
	"subscribe.overlap": {"it came at QoS 0, and not at QoS 1"},
	"subscribe.replace": {"no local was taken back by another SUBSCRIBE, and still holds", "retain as published was taken back by another SUBSCRIBE, and still holds"},
	"ws.subprotocol":    {"CONNACK 0 came after a text frame"},
	"error.malformed": {
		"PINGREQ with flags 1", "PUBACK with flags 1", "PUBLISH with DUP at QoS 0", "SUBACK from a client", "PINGRESP from a client",
		"PUBLISH with a subscription identifier", "SUBSCRIBE with no local on a shared subscription",
		"CONNECT with authentication data and no method",
	},
}

// Deviates tells whether a broken check of Debian's broker shows what is known of it, and nothing else. With a configuration of
// its own more may be known: a check's name, and what may be seen.
func Deviates(r *proof.Result, more map[string]string) bool {
	known := deviations[r.Check.Name]
	if text, is := more[r.Check.Name]; is {
		known = append(slices.Clone(known), text)
	}
	return r.Verdict == proof.Broken && len(known) > 0 && !slices.ContainsFunc(strings.Split(r.Seen, "; "), func(part string) bool {
		return !slices.ContainsFunc(known, func(k string) bool { return strings.Contains(part, k) })
	})
}
