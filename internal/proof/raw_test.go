package proof

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// TestALinkThatBringsNonsense: what is no packet is one event, however long it goes on, and the end is seen behind it.
func TestALinkThatBringsNonsense(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ours, theirs := link.Pipe()
		r := &runner{gov: newGovernor(), target: Target{Dial: func(context.Context) (*link.Link, error) { return ours, nil }}}
		p := r.pass(t.Context(), &Check{Name: "raw.test"}, packet.V311)
		raw, err := p.Raw("subject")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			for range 50 {
				theirs.Write([]byte{0x20, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x01})
				time.Sleep(100 * time.Millisecond)
			}
			theirs.Close()
		}()
		if e := p.Ending(raw, 1, time.Second); e != nil || !raw.Open() {
			t.Errorf("it ended: %+v", e)
		}
		if e := p.Ending(raw, 1, time.Minute); e == nil || raw.Open() {
			t.Error("its end was not seen")
		}
		n := 0
		for _, e := range func() []trace.Event { all, _ := p.log.Read(1, evidenceLimit); return all }() {
			if e.Kind == trace.Received {
				n++
			}
		}
		if n > 1 {
			t.Errorf("%d events of nonsense", n)
		}
	})
}
