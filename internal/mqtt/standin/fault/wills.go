package fault

import (
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// wills are the faults of wills beside those in will.go.
func wills() []standin.Fault {
	of := func(name, sentence string, versions []packet.Version, check string, change func(*standin.WillCase)) standin.Fault {
		return standin.Fault{Name: name, Sentence: sentence, Versions: versions, Breaks: []string{check}, Decisions: standin.Decisions{Will: change}}
	}
	return []standin.Fault{
		of("will.not-on-close", "A client that closes the link without DISCONNECT leaves no will.", nil, "will.on-close",
			func(w *standin.WillCase) {
				w.Send = w.Send && (w.Reset || w.Silent || w.Violation || w.TakenOver || w.Requested)
			}),
		of("will.not-on-timeout", "A client that has fallen silent leaves no will.", nil, "will.on-silence",
			func(w *standin.WillCase) { w.Send = w.Send && !w.Silent }),
		of("will.not-on-violation", "A client that breaks the protocol leaves no will.", nil, "will.on-violation",
			func(w *standin.WillCase) { w.Send = w.Send && !w.Violation }),
		of("will.request-ignored", "DISCONNECT 0x04 discards the will as 0x00 does.", five, "will.on-request",
			func(w *standin.WillCase) { w.Send = w.Send && !w.Requested }),
		of("will.not-on-takeover", "Who is thrown out by another with its identifier leaves no will.", told, "will.on-takeover",
			func(w *standin.WillCase) { w.Send = w.Send && !w.TakenOver }),
		of("will.retain-ignored", "Will retain is not heeded.", nil, "will.retained",
			func(w *standin.WillCase) { w.Message.Retain = false }),
		of("will.qos2-lowered", "A will at QoS 2 is published at QoS 1.", nil, "will.qos",
			func(w *standin.WillCase) { w.Message.QoS = min(1, w.Message.QoS) }),
		of("will.delay-ignored", "A will with a delay is published at once.", five, "will.delay",
			func(w *standin.WillCase) { w.Delay = 0 }),
		of("will.not-cancelled", "A will with a delay is published although its client has come back.", five, "will.delay",
			func(w *standin.WillCase) { w.Uncancelled = w.Delay > 0 }),
		of("will.outlives-session", "A will waits for its delay although its session has ended.", five, "will.session-end",
			func(w *standin.WillCase) {
				if w.Asked > w.Delay && w.Delay > 0 {
					w.Delay, w.Outlives = w.Asked, true
				}
			}),
		of("will.properties-dropped", "A will loses its properties.", five, "will.properties",
			func(w *standin.WillCase) { w.Message.Properties = nil }),
		of("will.properties-sorted", "The user properties of a will come in the order of their names.", five, "will.properties",
			func(w *standin.WillCase) { w.Message.Properties = sorted(w.Message.Properties) }),
		{Name: "will.not-replacing", Sentence: "A will that is to be stored does not replace what is.", Breaks: []string{"will.presence"},
			Decisions: standin.Decisions{WillStored: func(existed bool) bool { return !existed }}},
	}
}
