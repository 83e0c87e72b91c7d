package device

import (
	"time"

	"hodstone/internal/mqtt/packet"
)

// behaviour is one thing that a device does. All are called by the device's loop, one at a time,
// and only while the device is connected; the times are those of its clock.
type behaviour interface {
	// filters are what it wants to hear of.
	filters() []packet.Subscription
	// begin is called whenever the device has come in and has subscribed.
	begin(now time.Time)
	// message is told each message that arrives.
	message(m *packet.Publish, now time.Time)
	// due is when it wants to act next; zero for not by itself.
	due() time.Time
	// act is called once that time has come.
	act(now time.Time)
	// end is called before a device that is switched off says DISCONNECT.
	end()
}

// idle does nothing: behaviours embed it for what they leave out.
type idle struct{}

func (idle) filters() []packet.Subscription     { return nil }
func (idle) begin(time.Time)                    {}
func (idle) message(*packet.Publish, time.Time) {}
func (idle) due() time.Time                     { return time.Time{} }
func (idle) act(time.Time)                      {}
func (idle) end()                               {}
