package check_test

import (
	"strings"
	"sync"
	"testing"

	"hodstone/internal/brokertest"
	"hodstone/internal/proof/prooftest"
)

// TestALimitOfARealBrokerIsNoFault is the same at Debian's.
func TestALimitOfARealBrokerIsNoFault(t *testing.T) {
	var wg sync.WaitGroup // side by side: most of it is waiting
	for _, tt := range []struct {
		lines, listener, id, unsupported, refused string
		known                                     map[string]string
	}{
		{"", "max_connections 4\n", "", prooftest.Crowds(5), "", nil},
		{"", "max_qos 1\n", "", prooftest.Once(), "", nil},
		{"", "max_qos 0\n", "", prooftest.Confirmed(), "", nil},
		{"retain_available false\n", "", "", prooftest.Storing(), "", nil},
		{"max_queued_messages 3\n", "", "", "session.order", "", nil},
		{"max_queued_messages 10\n", "", "", "session.order", "", nil},
		{"max_queued_bytes 500\n", "", "", "", "", nil},
		{"max_packet_size 500\n", "", "", "", "", nil},
		{"message_size_limit 200\n", "", "", "qos.pairings qos.payload-exact limit.packet-size", "", nil},
		{"clientid_prefixes dairy-\nallow_zero_length_clientid false\n", "", "dairy-{n}", "", "", nil},
		{"clientid_prefixes dairy-\n", "", "", "", "not authorized", nil},
		{"max_inflight_messages 1\nqueue_qos0_messages true\nset_tcp_nodelay true\n", "", "", "", "", map[string]string{ // what waits behind another is lost, or stuck
			"qos.order": "nothing came within 5s", "session.message-expiry": "the message with expiry 60 s: nothing came",
			"limit.packet-size": `the small message "small again"`,
		}},
	} {
		broker := brokertest.Start(t, brokertest.Options{Anonymous: true, Lines: tt.lines, Listener: tt.listener})
		target, anonymous := over(broker.URLs["tcp"], nil, nil, false), true
		target.Anonymous, target.ClientID, target.Listener, target.Limited = &anonymous, tt.id, strings.TrimSpace(tt.lines+tt.listener), nil
		wg.Go(func() { prooftest.Limited(t, target, tt.unsupported, tt.refused, tt.known) })
	}
	wg.Wait()
}
