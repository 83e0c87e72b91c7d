package fault

import (
	"time"

	"hodstone/internal/mqtt/standin"
)

// sessions are the faults of how sessions end, and of what waits in them.
func sessions() []standin.Fault {
	of := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		return one(name, sentence, check, nil, d)
	}
	in5 := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		return one(name, sentence, check, five, d)
	}
	leaves := func(f standin.Fault) standin.Fault { f.Leaves = true; return f }
	return []standin.Fault{
		of("session.not-cleaned", "A clean start leaves the session as it was, and CONNACK says otherwise.", "session.clean",
			standin.Decisions{NotCleaned: true}),
		leaves(of("session.clean-kept", "A session that was not to be kept is there when its client comes back.", "session.clean",
			standin.Decisions{CleanKept: true})),
		of("session.shuffled", "What has waited comes in the wrong order.", "session.order", standin.Decisions{WaitedBackwards: true}),
		of("session.new-first", "What is new comes before what has waited.", "session.order", standin.Decisions{NewFirst: true}),
		in5("expiry.queue-ignored", "What waits for a client does not expire.", "session.message-expiry",
			standin.Decisions{Expired: func(stored, expired bool) bool { return expired && stored }}),
		in5("session.never-expires", "The session of a client without a will does not end by its expiry.", "session.expiry",
			standin.Decisions{Expiry: func(told time.Duration, hasWill bool) time.Duration {
				if told > 0 && told < 5*time.Second && told != time.Second && !hasWill {
					return standin.Never
				}
				return told
			}}),
		in5("session.expires-early", "A session ends after a quarter of its expiry.", "session.expiry",
			standin.Decisions{Expiry: func(told time.Duration, hasWill bool) time.Duration {
				if told == standin.Never || hasWill {
					return told
				}
				return told / 4
			}}),
		leaves(in5("session.expiry-fixed", "DISCONNECT does not change the session's expiry.", "session.expiry-at-goodbye",
			standin.Decisions{Changed: func(time.Duration, time.Duration) bool { return false }})),
		in5("session.expiry-not-raised", "DISCONNECT shortens a session's expiry, and does not prolong it.", "session.expiry-at-goodbye",
			standin.Decisions{Changed: func(before, now time.Duration) bool { return now < before }}),
	}
}
