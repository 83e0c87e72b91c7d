package client_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// TestWhatComesOutOfOrder: CONNACK comes once, before everything else, and nothing follows one that
// refuses; the client ends the link, says which rule was broken, and hangs on nothing.
func TestWhatComesOutOfOrder(t *testing.T) {
	in, out := packet.Packet(&packet.Connack{}), packet.Packet(&packet.Connack{Code: 5})
	message, pong := packet.Packet(&packet.Publish{Topic: "a"}), packet.Packet(&packet.Pingresp{})
	many := []packet.Packet{in}
	for range 1000 {
		many = append(many, in)
	}
	for _, tt := range []struct {
		name string
		says []packet.Packet
		want string
	}{
		{"two CONNACKs", []packet.Packet{in, in}, "a second CONNACK"},
		{"a thousand CONNACKs", many, "a second CONNACK"},
		{"a refusal, then CONNACK", []packet.Packet{out, in}, "a second CONNACK"},
		{"a message first", []packet.Packet{message, in}, "PUBLISH before CONNACK"},
		{"PINGRESP first", []packet.Packet{pong, in}, "PINGRESP before CONNACK"},
		{"a message after a refusal", []packet.Packet{out, message}, "PUBLISH after a CONNACK that refuses"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := &script{t: t, v: packet.V311}
				c := client.New(client.Options{
					Dial: s.dial, Version: packet.V311, Connect: packet.Connect{ClientID: "c", CleanStart: true},
				})
				done := make(chan error, 1)
				go func() { _, err := c.Connect(t.Context()); done <- err }()
				synctest.Wait()
				s.read.Next()
				go func() {
					for _, p := range tt.says {
						s.link.Write(p.Append(nil, packet.V311))
					}
				}()
				start := time.Now()
				<-done
				c.Close()
				if err := c.Ended(); err == nil || !strings.Contains(err.Error(), "it broke a rule: "+tt.want) {
					t.Errorf("ended with %v", err)
				}
				if took := time.Since(start); took > 0 {
					t.Errorf("after %s", took)
				}
				s.link.Close()
			})
		})
	}
}

// TestAllIdentifiersInUse: 65,535 publications wait; one more is refused at once, and is taken when one of them
// was acknowledged.
func TestAllIdentifiersInUse(t *testing.T) {
	converse(t, packet.V311, nil, accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		go func() { // takes what comes and answers nothing
			for {
				if _, _, err := s.read.Next(); err != nil {
					return
				}
			}
		}()
		asking, stop := context.WithCancel(t.Context())
		waits := make(chan error, 1)
		go func() { // a subscription that is not answered has one too
			_, err := c.Subscribe(asking, []packet.Subscription{{Filter: "x"}})
			waits <- err
		}()
		synctest.Wait()
		for range 65534 {
			if _, err := c.Start(packet.Publish{Topic: "a", QoS: 1}); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := c.Start(packet.Publish{Topic: "a", QoS: 1}); !errors.Is(err, client.ErrNoIdentifier) {
			t.Errorf("one more: %v", err)
		}
		if _, err := c.Subscribe(t.Context(), []packet.Subscription{{Filter: "x"}}); !errors.Is(
			err,
			client.ErrNoIdentifier,
		) {
			t.Errorf("a subscription: %v", err)
		}
		if _, err := c.Start(packet.Publish{Topic: "a"}); err != nil {
			t.Errorf("QoS 0 needs none: %v", err)
		}
		stop()
		<-waits
		if pub, err := c.Start(packet.Publish{Topic: "a", QoS: 1}); err != nil || pub.Packet.ID != 1 {
			t.Errorf("in place of the subscription: %+v, %v", pub, err)
		}
		s.send(&packet.Puback{Ack: id(7)})
		synctest.Wait()
		if pub, err := c.Start(packet.Publish{Topic: "a", QoS: 1}); err != nil || pub.Packet.ID != 7 {
			t.Errorf("after one acknowledgement: %+v, %v", pub, err)
		}
	})
}
