package workspace

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/contract"
)

// DeviceFault is a way in which a simulated device misbehaves; what it does then is the device's.
type DeviceFault struct {
	Name, Sentence string
	// Breaks is the rule of the judge that finds it, where the contract speaks of it.
	Breaks contract.RuleName
	// Check is the check of a device that finds it.
	Check string
}

// DeviceFaults lists them all.
func DeviceFaults() []DeviceFault {
	return []DeviceFault{
		{"payload.numbers-as-text", "Numbers in its messages are texts.", contract.RuleSchema, "device.speaks"},
		{
			"payload.other-unit",
			"Its numbers are a thousand times too large, as in another unit.",
			contract.RuleSchema,
			"device.speaks",
		},
		{"payload.field-missing", "The first field of its messages is missing.", contract.RuleSchema, "device.speaks"},
		{"payload.cut", "Its messages lose their last byte.", contract.RuleFormat, "device.speaks"},
		{
			"payload.padded",
			"Its messages are filled up to 2,000 bytes with spaces.",
			contract.RuleSize,
			"device.speaks",
		},
		{"clock.off", "Its clock is an hour and a half slow.", contract.RuleStamp, "device.speaks"},
		{"answer.late", "It takes 20 s longer to answer.", contract.RuleAnswer, "device.answers"},
		{"answer.none", "It obeys, and does not answer.", contract.RuleAnswer, "device.answers"},
		{"flood", "It sends each message 50 times.", contract.RuleHaste, "device.speaks"},
		{"silent", "It stays in, and publishes nothing but its presence.", contract.RuleSilence, "device.speaks"},
		{"qos.lowered", "It publishes everything at QoS 0.", contract.RuleQoS, "device.speaks"},
		{
			"retain.always",
			"It publishes everything with the retain flag, commands too.",
			contract.RuleRetain,
			"device.speaks",
		},
		{"retain.never", "It publishes nothing with the retain flag.", contract.RuleRetain, "device.answers"},
		{"will.missing", "It comes without its will.", contract.RulePresence, "device.arrives"},
		{"will.other", "Its will says that it is in service.", contract.RulePresence, "device.arrives"},
		{
			"goodbye.unsaid",
			"It says DISCONNECT without a word that it leaves.",
			contract.RulePresence,
			"device.goodbye",
		},
		{"session.other-id", "It has the client identifier of the one after it.", contract.RuleTerms, "device.arrives"},
		{"session.no-keep-alive", "It comes with keep alive 0.", contract.RuleTerms, "device.arrives"},
		{"session.not-clean", "It wants its old session back.", contract.RuleTerms, "device.arrives"},
		{
			"session.never-back",
			"It does not come again after its link was lost.",
			contract.RuleTerms,
			"device.comes-back",
		},
		{"session.hasty", "It tries to come again every 50 ms.", contract.RuleTerms, "device.comes-back"},
		{"subscribes.not", "It subscribes to nothing.", contract.RuleSubscribes, "device.subscribes-again"},
		{
			"subscribes.once",
			"It subscribes only the first time that it comes.",
			contract.RuleSubscribes,
			"device.subscribes-again",
		},
		{"goodbye.speaks-on", "It publishes after DISCONNECT.", contract.RuleTerms, "device.goodbye"},
		{
			"heeds.in-flight",
			"It has more messages under way than CONNACK's receive maximum allows.",
			"",
			"device.heeds",
		},
		{"heeds.packet-size", "It sends larger packets than CONNACK's maximum packet size.", "", "device.heeds"},
		{"heeds.qos", "It publishes at a higher QoS than CONNACK's maximum.", "", "device.heeds"},
		{
			"heeds.retain",
			"It publishes with the retain flag although CONNACK says that none are kept.",
			"",
			"device.heeds",
		},
		{"heeds.keep-alive", "It goes by its own keep alive, and not by CONNACK's.", "", "device.heeds"},
		{"heeds.alias", "It uses a topic alias, whatever CONNACK allows.", "", "device.heeds"},
		{"frames.split", "It takes what comes at once for whole packets, and loses what is none.", "", "device.frames"},
		{"frames.gathered", "Of packets that come at once it takes the first.", "", "device.frames"},
		{"frames.long", "It loses packets whose remaining length takes more than one byte.", "", "device.frames"},
		{"qos2.twice", "A message at QoS 2 that is sent again acts again.", "", "device.resends"},
		{"retained.obeyed", "It obeys old retained commands where none are to be retained.", "", "device.survives"},
		{"buffer.lost", "What it measured while it was away is lost.", "", "device.buffers"},
	}
}

// deviceFault reads the name of a fault.
func (l *loader) deviceFault(d *Device, v node) {
	name, ok := v.known("fault", names(DeviceFaults(), func(f DeviceFault) string { return f.Name }))
	if ok && v.exists() {
		d.Faults = append(d.Faults, name)
	}
}

// FindDeviceFaults tells whether there are faults of the names; the error lists all.
func FindDeviceFaults(given ...string) error {
	all := names(DeviceFaults(), func(f DeviceFault) string { return f.Name })
	for _, name := range given {
		if !slices.Contains(all, name) {
			return fmt.Errorf("a device has no fault %q; there are: %s", name, strings.Join(all, ", "))
		}
	}
	return nil
}
