package reach

import (
	"fmt"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// Greeting returns what a server behind the endpoint would answer: a CONNECT without a login, or
// the request for a WebSocket. A survey of its TLS sends it to see whether a handshake really
// stands.
func Greeting(e link.Endpoint) []byte {
	if e.WebSocket {
		path := pathOf(e.URL)
		if path == "" {
			path = "/"
		}
		return fmt.Appendf(nil, "GET %s HTTP/1.1\r\nHost: %s\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: aG9kc3RvbmUtaG9kc3RvbmU=\r\nSec-WebSocket-Protocol: %s\r\n\r\n", path, e.Address, link.Subprotocol)
	}
	return (&packet.Connect{ClientID: client.NewID(), CleanStart: true, KeepAlive: reachKeepAlive}).Append(nil, packet.V311)
}
