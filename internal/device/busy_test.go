package device_test

import (
	"bytes"
	"fmt"
	"sync"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"hodstone/internal/device"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// dairy is one device that gives back what it is told, and counts it.
const dairy = `hodstone: 1
brokers: {cellar: {stand-in: {}}}
contract:
  parties: {vat: , desk: }
  clauses:
    set: {topic: d/set, from: desk, to: vat, qos: 1, payload: {format: binary}}
    echo: {topic: d/echo, from: vat, to: desk, qos: 1, payload: {format: binary}}
    beat: {topic: d/beat, from: vat, to: desk, qos: 0, payload: {format: number}}
devices:
  vat:
    plays: vat
    publishes:
      - {clause: echo, payload: "= payload"}
      - {clause: beat, every: 1s, payload: "= count()"}
    reactions: [{when: set, publish: echo}]
`

// vat starts the device on a stand-in, and a desk that is told all that it says.
func vat(t *testing.T) (d *device.Device, desk *client.Client, heard func(topic string) [][]byte, end func()) {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(dairy)}}, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	s, err := standin.New(standin.Options{Anonymous: true})
	if err != nil {
		t.Fatal(err)
	}
	d = device.New(
		device.Options{
			Kind:     w.Devices[0],
			Number:   1,
			Contract: w.Contract,
			Dial:     s.Dial,
			Logs:     []*trace.Log{trace.NewLog(100)},
			Seed:     7,
		},
	)
	var mu sync.Mutex
	got := map[string][][]byte{}
	desk = client.New(
		client.Options{
			Dial:    s.Dial,
			Version: packet.V5,
			Connect: packet.Connect{ClientID: "desk", CleanStart: true},
			Message: func(m *packet.Publish) {
				mu.Lock()
				defer mu.Unlock()
				got[m.Topic] = append(got[m.Topic], bytes.Clone(m.Payload))
			},
		},
	)
	if _, err := desk.Connect(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := desk.Subscribe(t.Context(),
		[]packet.Subscription{{Filter: "d/echo", QoS: 1}, {Filter: "d/beat"}}); err != nil {
		t.Fatal(err)
	}
	d.Start()
	synctest.Wait()
	heard = func(topic string) [][]byte {
		synctest.Wait()
		mu.Lock()
		defer mu.Unlock()
		return got[topic]
	}
	return d, desk, heard, func() {
		d.Stop()
		desk.Disconnect(0)
		s.Close()
	}
}

// TestManyCommandsAreAllTaken: none of thousands is dropped without a word, and each answer is the command's own
// bytes, whatever they are.
func TestManyCommandsAreAllTaken(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d, desk, heard, end := vat(t)
		defer end()
		const commands = 5000
		for i := range commands {
			if _, err := desk.Start(packet.Publish{Topic: "d/set", QoS: 1,
				Payload: []byte{0x00, 0xff, 0x80, 0xc3, byte(i), byte(i >> 8)}}); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(time.Minute)
		got := heard("d/echo")
		if st := d.State(); len(got) != commands || st.Received != commands || st.Why != "" {
			t.Fatalf("%d answers to %d commands; it took %d and says %q", len(got), commands, st.Received, st.Why)
		}
		for i, b := range got {
			if want := []byte{0x00, 0xff, 0x80, 0xc3, byte(i), byte(i >> 8)}; !bytes.Equal(b, want) {
				t.Fatalf("answer %d: % x, want % x", i, b, want)
			}
		}
	})
}

// TestStartWhileItStops: however often it is switched, one life goes on at a time, and one client.
func TestStartWhileItStops(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d, _, heard, end := vat(t)
		defer end()
		var wg sync.WaitGroup
		for range 40 {
			wg.Go(d.Stop)
			wg.Go(d.Start)
		}
		wg.Wait()
		d.Start()
		time.Sleep(10 * time.Second)
		if st := d.State(); st.Phase != device.On {
			t.Fatalf("%s: %s", st.Phase, st.Why)
		}
		before := len(heard("d/beat"))
		time.Sleep(20 * time.Second)
		beats := heard("d/beat")[before:]
		if len(beats) != 20 {
			t.Errorf("%d beats in 20 s", len(beats))
		}
		first := 0
		fmt.Sscan(string(beats[0]), &first)
		for i, b := range beats {
			if string(b) != fmt.Sprint(first+i) {
				t.Fatalf("beat %d after %d: %s", i, first, b)
			}
		}
		d.Stop()
		if d.State().Phase != device.Off {
			t.Error("it is not off")
		}
	})
}
