package standin

import (
	"fmt"
	"time"

	"hodstone/internal/mqtt/packet"
)

// systemEvery is how often the stand-in tells of itself.
const systemEvery = 10 * time.Second

// startSystem tells of the stand-in on topics of its own, stored, now and from time to time. Names that begin with $ are
// the broker's, and no wildcard reaches them (3.1.1 §4.7.2).
func (s *Server) startSystem() {
	started := time.Now()
	s.tell("$SYS/broker/version", "Hodstone's stand-in")
	var again func()
	again = func() {
		s.tell("$SYS/broker/uptime", fmt.Sprintf("%.0f seconds", time.Since(started).Seconds()))
		s.tell("$SYS/broker/clients/connected", fmt.Sprint(s.connected))
		s.system = time.AfterFunc(systemEvery, func() { s.locked(again) })
	}
	again()
}

func (s *Server) tell(name, text string) {
	s.publish(newMessage(&packet.Publish{Topic: name, Payload: []byte(text), Retain: true}), nil)
}
