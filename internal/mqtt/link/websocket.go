package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"

	"github.com/coder/websocket"
)

// Subprotocol is what MQTT over WebSocket must agree upon (3.1.1 §6, 5.0 §6).
const Subprotocol = "mqtt"

// noLimit lifts the frame size limit: packets have their own.
const noLimit = -1

// wsConn is a WebSocket as a stream of bytes: packets may be split and joined across
// frames (§6).
type wsConn struct {
	net.Conn // reads and writes binary frames
	ws       *websocket.Conn
	carrier  net.Conn
}

// Close ends the connection below; a closing handshake would wait for a peer that
// may be gone.
func (c *wsConn) Close() error { return c.ws.CloseNow() }

func (c *wsConn) LocalAddr() net.Addr  { return c.carrier.LocalAddr() }
func (c *wsConn) RemoteAddr() net.Addr { return c.carrier.RemoteAddr() }

func overWebSocket(ws *websocket.Conn, carrier net.Conn) *Link {
	ws.SetReadLimit(noLimit)
	// The link's life is not bound to a context: Close and Cut end it.
	c := &wsConn{Conn: websocket.NetConn(context.Background(), ws, websocket.MessageBinary), ws: ws, carrier: carrier}
	reset := resetOf(c, carrier)
	return newLink(c, func() error {
		err := reset()
		ws.CloseNow() // its goroutines end too
		return err
	})
}

func (e Endpoint) dialWebSocket(ctx context.Context, o Options) (*Link, error) {
	var carrier net.Conn
	var dialErr error
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		carrier, dialErr = e.dial(ctx, o)
		return carrier, dialErr
	}
	transport := &http.Transport{DialContext: dial, DialTLSContext: dial}
	ws, response, err := websocket.Dial(ctx, e.URL, &websocket.DialOptions{Subprotocols: []string{Subprotocol},
		HTTPClient: &http.Client{Transport: transport}, CompressionMode: websocket.CompressionDisabled})
	switch {
	case dialErr != nil:
		return nil, dialErr
	case err != nil:
		if carrier != nil {
			carrier.Close()
		}
		return nil, upgradeError(e.URL, response, err)
	case ws.Subprotocol() != Subprotocol:
		carrier.Close()
		return nil, fmt.Errorf("%s: the server did not agree to the subprotocol %q (3.1.1 §6): is this path meant for MQTT?", e.URL, Subprotocol)
	}
	return overWebSocket(ws, carrier), nil
}

func upgradeError(url string, r *http.Response, err error) error {
	switch {
	case r != nil && r.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%s: the server has nothing at this path (HTTP 404): brokers often use /mqtt or /ws", url)
	case r != nil && r.StatusCode != http.StatusSwitchingProtocols:
		return fmt.Errorf("%s: the server answers HTTP %d instead of upgrading to WebSocket: is this port and path meant for MQTT?", url, r.StatusCode)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%s: the server closed instead of upgrading to WebSocket: is this its plain MQTT port? then write mqtt://", url)
	}
	return fmt.Errorf("%s: no WebSocket: %w", url, err)
}

// ServeWebSocket upgrades what comes in on the listener and hands over the links, until
// the listener is closed; path is the only one that is answered. It returns when all of
// its goroutines are gone; accept must not wait for the link to end.
func ServeWebSocket(ln net.Listener, path string, accept func(*Link)) error {
	type carrierKey struct{}
	mux := http.NewServeMux()
	mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
		ws, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{Subprotocol}, InsecureSkipVerify: true, CompressionMode: websocket.CompressionDisabled})
		if err != nil {
			return // Accept has answered
		}
		if ws.Subprotocol() != Subprotocol {
			ws.Close(websocket.StatusPolicyViolation, "the subprotocol must be mqtt")
			return
		}
		carrier, _ := r.Context().Value(carrierKey{}).(net.Conn)
		accept(overWebSocket(ws, carrier))
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: DialTimeout, ErrorLog: log.New(io.Discard, "", 0),
		ConnContext: func(ctx context.Context, c net.Conn) context.Context { return context.WithValue(ctx, carrierKey{}, c) }}
	err := server.Serve(ln)
	server.Close() // connections that were not upgraded
	if errors.Is(err, http.ErrServerClosed) || errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}
