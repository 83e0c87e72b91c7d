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

// Text sends a text frame, which MQTT forbids (3.1.1 §6): for those who look what becomes of it. It fails on a link that is
// no WebSocket.
func (l *Link) Text(b []byte) error {
	c, is := l.conn.(*wsConn)
	if !is {
		return errors.New("the link is no WebSocket")
	}
	return c.ws.Write(context.Background(), websocket.MessageText, b)
}

func (e Endpoint) dialWebSocket(ctx context.Context, o Options) (*Link, error) {
	carrier, err := e.dial(ctx, o)
	if err != nil {
		return nil, err
	}
	return e.Upgrade(ctx, carrier, Subprotocol)
}

// UpgradeError is an upgrade to WebSocket that failed.
type UpgradeError struct {
	URL string
	// Status is the HTTP status that the server answered with, 0 for none; Location where a
	// redirection leads, Server what the server calls itself.
	Status           int
	Location, Server string
	// NoSubprotocol tells of an upgrade without agreement on the subprotocol.
	NoSubprotocol bool
	Err           error
}

// Unwrap returns what the WebSocket library said, if anything.
func (e *UpgradeError) Unwrap() error { return e.Err }

// Error says it in plain words.
func (e *UpgradeError) Error() string {
	switch {
	case e.NoSubprotocol:
		return fmt.Sprintf(
			"%s: the server did not agree to the subprotocol %q (3.1.1 §6): is this path meant for MQTT?",
			e.URL,
			Subprotocol,
		)
	case e.Status == http.StatusNotFound:
		return fmt.Sprintf("%s: the server has nothing at this path (HTTP 404): brokers often use /mqtt or /ws", e.URL)
	case e.Status != 0 && e.Status != http.StatusSwitchingProtocols:
		return fmt.Sprintf(
			"%s: the server answers HTTP %d instead of upgrading to WebSocket: is this port and path meant for MQTT?",
			e.URL,
			e.Status,
		)
	case errors.Is(e.Err, io.EOF), errors.Is(e.Err, io.ErrUnexpectedEOF):
		return fmt.Sprintf(
			"%s: the server closed instead of upgrading to WebSocket: is this its plain MQTT port? then write mqtt://",
			e.URL,
		)
	}
	return fmt.Sprintf("%s: no WebSocket: %v", e.URL, e.Err)
}

// Upgrade makes a WebSocket of a connection that stands, with TLS where the URL wants it. It
// closes the connection where that fails; the error is an [*UpgradeError].
func (e Endpoint) Upgrade(ctx context.Context, carrier net.Conn, subprotocol string) (*Link, error) {
	used := false
	dial := func(context.Context, string, string) (net.Conn, error) {
		if used { // a redirection leads elsewhere: that is for the user to see
			return nil, errors.New("the server sends us elsewhere")
		}
		used = true
		return carrier, nil
	}
	client := &http.Client{Transport: &http.Transport{DialContext: dial, DialTLSContext: dial},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	ws, response, err := websocket.Dial(
		ctx,
		e.URL,
		&websocket.DialOptions{
			Subprotocols:    []string{subprotocol},
			HTTPClient:      client,
			CompressionMode: websocket.CompressionDisabled,
		},
	)
	if err == nil && ws.Subprotocol() == subprotocol {
		return overWebSocket(ws, carrier), nil
	}
	failed := &UpgradeError{URL: e.URL, NoSubprotocol: err == nil, Err: err}
	if response != nil {
		failed.Status, failed.Location, failed.Server = response.StatusCode, response.Header.Get(
			"Location",
		), response.Header.Get(
			"Server",
		)
	}
	carrier.Close()
	return nil, failed
}

// Flaws are ways in which a server of WebSockets misbehaves on purpose.
type Flaws struct {
	// NoSubprotocol agrees to none, Text takes text frames, and Whole takes only frames that hold one packet.
	NoSubprotocol, Text, Whole bool
}

// flawed reads frames by the flaws.
type flawed struct {
	*wsConn
	flaws Flaws
	rest  []byte
}

func (c *flawed) Read(b []byte) (int, error) {
	for len(c.rest) == 0 {
		kind, data, err := c.ws.Read(context.Background())
		if err != nil {
			return 0, io.EOF
		}
		whole := len(data) > 1 && data[1] < 128 && int(data[1])+2 == len(data) || len(data) > 130
		if kind == websocket.MessageText && !c.flaws.Text || c.flaws.Whole && !whole {
			c.ws.CloseNow()
			return 0, io.EOF
		}
		c.rest = data
	}
	n := copy(b, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// ServeWebSocket upgrades what comes in on the listener and hands over the links, until
// the listener is closed; path is the only one that is answered. It returns when all of
// its goroutines are gone; accept must not wait for the link to end.
//
// flaws, of which there is one at most, are for servers that misbehave on purpose.
func ServeWebSocket(ln net.Listener, path string, accept func(*Link), flaws ...Flaws) error {
	var flaw Flaws
	if len(flaws) > 0 {
		flaw = flaws[0]
	}
	agreed := []string{Subprotocol}
	if flaw.NoSubprotocol {
		agreed = nil
	}
	type carrierKey struct{}
	mux := http.NewServeMux()
	mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
		ws, err := websocket.Accept(
			w,
			r,
			&websocket.AcceptOptions{
				Subprotocols:       agreed,
				InsecureSkipVerify: true,
				CompressionMode:    websocket.CompressionDisabled,
			},
		)
		if err != nil {
			return // Accept has answered
		}
		if ws.Subprotocol() != Subprotocol && !flaw.NoSubprotocol {
			ws.Close(websocket.StatusPolicyViolation, "the subprotocol must be mqtt")
			return
		}
		carrier, _ := r.Context().Value(carrierKey{}).(net.Conn)
		if flaw.Text || flaw.Whole {
			ws.SetReadLimit(noLimit)
			inner := &wsConn{Conn: websocket.NetConn(context.Background(), ws, websocket.MessageBinary), ws: ws, carrier: carrier}
			c := &flawed{wsConn: inner, flaws: flaw}
			accept(newLink(c, resetOf(c, carrier)))
			return
		}
		accept(overWebSocket(ws, carrier))
	})
	server := &http.Server{
		Handler:           mux,
		ReadHeaderTimeout: DialTimeout,
		IdleTimeout:       DialTimeout,
		ErrorLog:          log.New(io.Discard, "", 0),
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			return context.WithValue(ctx,
				carrierKey{}, c)
		},
	}
	err := server.Serve(ln)
	server.Close() // connections that were not upgraded
	if errors.Is(err, http.ErrServerClosed) || errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}
