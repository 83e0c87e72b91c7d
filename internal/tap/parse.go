package tap

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// keys are those of a rule beside its action, with what they are.
var keys = map[string]string{
	"name":    "what it is called",
	"toward":  "device or broker",
	"client":  "a pattern of names, such as pen-*",
	"topic":   "a filter",
	"nth":     "each so many-th packet",
	"most":    "so many packets in all",
	"for":     "how long it is on",
	"by":      "of delay: how much later; of split and gather: how far apart, and how long at most",
	"rate":    "of throttle: bytes a second",
	"times":   "of repeat: how often in all; of gather: how many packets",
	"dup":     "of repeat: true marks the copies as sent again",
	"grants":  "of alter: what CONNACK grants, such as {receive-maximum: 1, maximum-qos: 0}",
	"qos":     "of alter",
	"retain":  "of alter",
	"payload": "of alter",
	"code":    "of refuse: the reason code, such as 0x89",
}

// ParseRule reads a rule as it is written: {ACTION: PACKET-TYPE or all, KEY: VALUE …}, such as {drop: PUBACK, toward:
// device, nth: 3}. The error says what to write.
func ParseRule(text string) (r Rule, err error) {
	var given map[string]any
	if err := yaml.Unmarshal([]byte(text), &given); err != nil || given == nil {
		return r, fmt.Errorf("%q is no rule: write {drop: PUBACK, toward: device, nth: 3}", text)
	}
	return RuleOf(given)
}

// RuleOf makes a rule of its keys and values; see [ParseRule].
func RuleOf(given map[string]any) (r Rule, err error) {
	for _, key := range slices.Sorted(maps.Keys(given)) {
		value := fmt.Sprint(given[key])
		if slices.Contains(Actions(), Action(key)) {
			if r.Do != "" {
				return r, fmt.Errorf("a rule has one action, not %s and %s", r.Do, key)
			}
			if r.Do = Action(key); value != "all" {
				if r.Type, err = packetType(value); err != nil {
					return r, err
				}
			}
			continue
		}
		if _, known := keys[key]; !known {
			return r, fmt.Errorf(
				"a rule has no key %q; it has an action (%s) and %s",
				key,
				actions(),
				strings.Join(slices.Sorted(maps.Keys(keys)), ", "),
			)
		}
		if err := r.set(key, value, given[key]); err != nil {
			return r, fmt.Errorf("%s: %w (%s)", key, err, keys[key])
		}
	}
	return r, r.check()
}

func actions() string {
	var all []string
	for _, a := range Actions() {
		all = append(all, string(a))
	}
	return strings.Join(all, ", ")
}

func packetType(name string) (packet.Type, error) {
	for t := packet.CONNECT; t <= packet.AUTH; t++ {
		if strings.EqualFold(t.String(), name) {
			return t, nil
		}
	}
	return 0, fmt.Errorf("%q is no packet type: write PUBLISH, PUBACK … or all", name)
}

func (r *Rule) set(key, value string, raw any) (err error) {
	number := func(lo int) (n int) {
		var k int64
		if k, err = strconv.ParseInt(value, 0, 32); err == nil && k < int64(lo) {
			err = fmt.Errorf("%s is too small", value)
		}
		return int(k)
	}
	switch key {
	case "name":
		r.Name = value
	case "toward":
		if r.Toward = Side(value); r.Toward != Device && r.Toward != Broker {
			err = fmt.Errorf("%q is no side", value)
		}
	case "client":
		r.Client = value
		_, err = path.Match(value, "")
	case "topic":
		r.Topic, err = value, topic.CheckFilter(value)
	case "nth":
		r.Nth = number(1)
	case "most":
		r.Most = number(1)
	case "rate":
		r.Rate = number(1)
	case "times":
		r.Times = number(2)
	case "for":
		r.For, err = time.ParseDuration(value)
	case "by":
		r.By, err = time.ParseDuration(value)
	case "qos":
		q := packet.QoS(number(0))
		if r.QoS = &q; err == nil && q > 2 {
			err = fmt.Errorf("there is no QoS %d", q)
		}
	case "retain":
		is, ok := raw.(bool)
		if r.Retain = &is; !ok {
			err = fmt.Errorf("%q is neither true nor false", value)
		}
	case "payload":
		r.Payload = &value
	case "dup":
		is, ok := raw.(bool)
		if r.Dup = is; !ok {
			err = fmt.Errorf("%q is neither true nor false", value)
		}
	case "grants":
		given, ok := raw.(map[string]any)
		if !ok {
			return fmt.Errorf("%q is no map", value)
		}
		r.Grants, err = grants(given)
	case "code":
		r.Code = packet.ReasonCode(number(1))
	}
	return err
}

// check tells what a rule lacks.
func (r *Rule) check() error {
	switch {
	case r.Do == "":
		return fmt.Errorf("a rule needs an action: %s", actions())
	case r.Do == Delay && r.By <= 0:
		return fmt.Errorf("delay needs by, such as {delay: PUBLISH, by: 200ms}")
	case r.Do == Throttle && r.Rate <= 0:
		return fmt.Errorf("throttle needs rate, such as {throttle: all, rate: 1000}")
	case r.Do == Alter && r.Type == packet.CONNACK && len(r.Grants) == 0:
		return fmt.Errorf("alter needs grants here: {alter: CONNACK, grants: {receive-maximum: 1}}")
	case len(r.Grants) > 0 && (r.Do != Alter || r.Type != packet.CONNACK):
		return fmt.Errorf("grants are of CONNACK: {alter: CONNACK, grants: {receive-maximum: 1}}")
	case r.Do == Alter && r.Type == packet.CONNACK:
		return nil
	case r.Do == Alter && r.QoS == nil && r.Retain == nil && r.Payload == nil:
		return fmt.Errorf("alter needs qos, retain, payload or grants")
	case r.Do == Alter && r.Type != 0 && r.Type != packet.PUBLISH:
		return fmt.Errorf("alter changes PUBLISH and CONNACK, and not %s", r.Type)
	case r.Do == Refuse && r.Type != packet.CONNECT:
		return fmt.Errorf("refuse is for CONNECT: {refuse: CONNECT, code: 0x89}")
	case r.Do == Refuse && r.Code == 0:
		return fmt.Errorf("refuse needs code, such as {refuse: CONNECT, code: 0x89}; in 3.1 and 3.1.1 from 1 to 5")
	}
	return nil
}

// granted are the properties of CONNACK that a rule can give, with their bounds (5.0 §3.2.2.3).
var granted = map[string]struct {
	id          packet.PropertyID
	least, most uint32
}{
	"receive-maximum":     {packet.ReceiveMaximum, 1, 65535},
	"maximum-qos":         {packet.MaximumQoS, 0, 1},
	"retain-available":    {packet.RetainAvailable, 0, 1},
	"maximum-packet-size": {packet.MaximumPacketSize, 1, 1<<32 - 1},
	"server-keep-alive":   {packet.ServerKeepAlive, 0, 65535},
	"topic-alias-maximum": {packet.TopicAliasMaximum, 0, 65535},
}

// grants reads what CONNACK is to grant.
func grants(given map[string]any) (out packet.Properties, err error) {
	for _, name := range slices.Sorted(maps.Keys(given)) {
		x, known := granted[name]
		if !known {
			return nil, fmt.Errorf(
				"CONNACK grants no %q; there are: %s",
				name,
				strings.Join(slices.Sorted(maps.Keys(granted)), ", "),
			)
		}
		n, err := strconv.ParseUint(fmt.Sprint(given[name]), 0, 32)
		if err != nil || uint32(n) < x.least || uint32(n) > x.most {
			return nil, fmt.Errorf("%s is a number from %d to %d, and not %v", name, x.least, x.most, given[name])
		}
		out = append(out, packet.Int(x.id, uint32(n)))
	}
	return out, nil
}
