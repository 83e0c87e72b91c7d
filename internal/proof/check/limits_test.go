package check_test

import (
	"strings"
	"testing"

	"hodstone/internal/brokertest"
	"hodstone/internal/proof/prooftest"
)

// TestALimitOfARealBrokerIsNoFault is the same at Debian's.
func TestALimitOfARealBrokerIsNoFault(t *testing.T) {
	for _, tt := range []struct{ lines, listener, id, unsupported, refused string }{
		{"", "max_connections 4\n", "", "", ""},
		{"", "max_qos 1\n", "", prooftest.Once(), ""},
		{"", "max_qos 0\n", "", prooftest.Confirmed(), ""},
		{"retain_available false\n", "", "", prooftest.Storing(), ""},
		{"max_packet_size 500\n", "", "", "", ""},
		{"message_size_limit 200\n", "", "", "qos.pairings", ""},
		{"clientid_prefixes dairy-\nallow_zero_length_clientid false\n", "", "dairy-{n}", "", ""},
		{"clientid_prefixes dairy-\n", "", "", "", "not authorized"},
		{"max_inflight_messages 1\nqueue_qos0_messages true\nset_tcp_nodelay true\n", "", "", "", ""},
	} {
		t.Run(strings.Fields(tt.lines + tt.listener)[0], func(t *testing.T) {
			t.Parallel()
			broker := brokertest.Start(t, brokertest.Options{Anonymous: true, Lines: tt.lines, Listener: tt.listener})
			target, anonymous := over(broker.URLs["tcp"], nil, false), true
			target.Anonymous, target.ClientID = &anonymous, tt.id
			prooftest.Limited(t, target, tt.unsupported, tt.refused)
		})
	}
}
