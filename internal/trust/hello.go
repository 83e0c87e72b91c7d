package trust

import (
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Dialer opens a connection to the server that is looked at.
type Dialer func(context.Context) (net.Conn, error)

// Hello is what a ClientHello offers (RFC 8446 §4.1.2, RFC 5246 §7.4.1.2). It is written and
// its answer read by code of our own, because the standard library lets neither the suites of
// TLS 1.3 be chosen nor offers all of the older ones.
type Hello struct {
	// Version is the version offered, the newest of them: [tls.VersionTLS10] to
	// [tls.VersionTLS13]. Older are those offered beside it.
	Version uint16
	Older   []uint16
	Suites  []uint16
	// ServerName is sent as SNI, unless it is empty or an address (RFC 6066 §3).
	ServerName string
	// Protocols are offered as ALPN (RFC 7301); none where it is empty.
	Protocols []string
	// Wait bounds the wait for the answer; 5 s where it is 0.
	Wait time.Duration
}

// HelloAnswer is what a server said to a ClientHello.
type HelloAnswer struct {
	// Version and Suite are those that the server chose, where Taken.
	Version, Suite uint16
	Taken          bool
	// Alert is the alert that refused it, where Alerted (RFC 8446 §6).
	Alert   byte
	Alerted bool
	// Ended words how the connection ended where there was neither ServerHello nor alert:
	// "closed", "reset", "silent", or bytes that are no TLS.
	Ended string
	// Foreign are the first bytes of an answer that is no TLS.
	Foreign []byte
}

// String words the answer.
func (a HelloAnswer) String() string {
	switch {
	case a.Taken:
		return "taken: " + SuiteName(a.Suite)
	case a.Alerted:
		return "refused: alert " + AlertName(a.Alert)
	}
	return "refused: " + a.Ended
}

// helloTimeout bounds the wait for one answer.
const helloTimeout = 5 * time.Second

// Ask sends the ClientHello over a new connection and reads the answer. The error is that of
// dialling; whatever the server does is an answer.
func (h Hello) Ask(ctx context.Context, dial Dialer) (HelloAnswer, error) {
	c, err := dial(ctx)
	if err != nil {
		return HelloAnswer{}, err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	wait := h.Wait
	if wait == 0 {
		wait = helloTimeout
	}
	c.SetDeadline(time.Now().Add(wait))
	if _, err := c.Write(h.record()); err != nil {
		return HelloAnswer{Ended: ended(err)}, nil
	}
	return readAnswer(c), ctx.Err()
}

func ended(err error) string {
	var timeout net.Error
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "closed"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "silent"
	case isReset(err):
		return "reset"
	}
	return err.Error()
}

// builder writes the length-prefixed vectors of TLS (RFC 8446 §3.4).
type builder []byte

func (b *builder) u16(v uint16) { *b = binary.BigEndian.AppendUint16(*b, v) }

// vector writes what fill writes, with its length before it in n bytes.
func (b *builder) vector(n int, fill func(*builder)) {
	var inner builder
	fill(&inner)
	for i := n - 1; i >= 0; i-- {
		*b = append(*b, byte(len(inner)>>(8*i)))
	}
	*b = append(*b, inner...)
}

// The extensions that are sent (IANA, TLS ExtensionType Values).
const (
	extServerName     = 0
	extGroups         = 10
	extPointFormats   = 11
	extSignatures     = 13
	extALPN           = 16
	extMasterSecret   = 23
	extVersions       = 43
	extPSKModes       = 45
	extKeyShare       = 51
	extRenegotiation  = 0xff01
	groupX25519       = 29
	recordHandshake   = 22
	recordAlert       = 21
	typeServerHello   = 2
	maxHandshakeBytes = 1 << 16 // a ServerHello has some hundred bytes
)

// record writes the ClientHello in one record.
func (h Hello) record() []byte {
	legacy := min(h.Version, tls.VersionTLS12) // RFC 8446 §4.1.2: legacy_version
	var random, session [32]byte
	rand.Read(random[:])
	rand.Read(session[:])
	var body builder
	body.u16(legacy)
	body = append(body, random[:]...)
	body.vector(1, func(b *builder) {
		if h.Version == tls.VersionTLS13 { // for middleboxes, RFC 8446 appendix D.4
			*b = append(*b, session[:]...)
		}
	})
	body.vector(2, func(b *builder) {
		for _, s := range h.Suites {
			b.u16(s)
		}
	})
	body.vector(1, func(b *builder) { *b = append(*b, 0) }) // no compression
	body.vector(2, h.extensions)
	var msg builder
	msg = append(msg, 1) // client_hello
	msg.vector(3, func(b *builder) { *b = append(*b, body...) })
	record := builder{recordHandshake, 3, 1}
	record.vector(2, func(b *builder) { *b = append(*b, msg...) })
	return record
}

func (h Hello) extensions(b *builder) {
	ext := func(id uint16, fill func(*builder)) {
		b.u16(id)
		b.vector(2, fill)
	}
	if _, err := netip.ParseAddr(h.ServerName); h.ServerName != "" && err != nil {
		ext(extServerName, func(b *builder) {
			b.vector(2, func(b *builder) {
				*b = append(*b, 0) // host_name
				b.vector(2, func(b *builder) { *b = append(*b, strings.TrimSuffix(h.ServerName, ".")...) })
			})
		})
	}
	ext(extGroups, func(b *builder) {
		b.vector(2, func(b *builder) {
			for _, g := range []uint16{groupX25519, 23, 24, 25, 256, 257} { // X25519, P-256, P-384, P-521, ffdhe2048, ffdhe3072
				b.u16(g)
			}
		})
	})
	if h.Version < tls.VersionTLS13 || len(h.Older) > 0 {
		ext(extPointFormats, func(b *builder) { b.vector(1, func(b *builder) { *b = append(*b, 0) }) })
		ext(extRenegotiation, func(b *builder) { *b = append(*b, 0) })
		ext(extMasterSecret, func(*builder) {})
	}
	if h.Version >= tls.VersionTLS12 {
		ext(extSignatures, func(b *builder) {
			b.vector(2, func(b *builder) {
				// ECDSA, RSA-PSS, EdDSA and RSA PKCS #1 with SHA-256 to SHA-512, SHA-1 last
				for _, s := range []uint16{0x0403, 0x0503, 0x0603, 0x0804, 0x0805, 0x0806, 0x0807, 0x0809, 0x080a, 0x080b, 0x0401, 0x0501, 0x0601, 0x0203, 0x0201} {
					b.u16(s)
				}
			})
		})
	}
	if len(h.Protocols) > 0 {
		ext(extALPN, func(b *builder) {
			b.vector(2, func(b *builder) {
				for _, p := range h.Protocols {
					b.vector(1, func(b *builder) { *b = append(*b, p...) })
				}
			})
		})
	}
	if h.Version == tls.VersionTLS13 {
		ext(extVersions, func(b *builder) {
			b.vector(1, func(b *builder) {
				for _, v := range append([]uint16{h.Version}, h.Older...) {
					b.u16(v)
				}
			})
		})
		ext(extPSKModes, func(b *builder) { b.vector(1, func(b *builder) { *b = append(*b, 1) }) })
		ext(extKeyShare, func(b *builder) {
			key, err := ecdh.X25519().GenerateKey(rand.Reader)
			if err != nil {
				return // crypto/rand does not fail
			}
			b.vector(2, func(b *builder) {
				b.u16(groupX25519)
				b.vector(2, func(b *builder) { *b = append(*b, key.PublicKey().Bytes()...) })
			})
		})
	}
}

// readAnswer reads records until the ServerHello is whole, an alert comes, or it ends.
func readAnswer(c io.Reader) HelloAnswer {
	var msg []byte
	for {
		var head [5]byte
		if n, err := io.ReadFull(c, head[:]); err != nil {
			if n > 0 && (head[0] != recordHandshake && head[0] != recordAlert || n > 1 && head[1] != 3) {
				return HelloAnswer{Ended: "an answer that is no TLS", Foreign: slices.Clone(head[:n])}
			}
			return HelloAnswer{Ended: ended(err)}
		}
		if head[0] != recordHandshake && head[0] != recordAlert || head[1] != 3 {
			more := make([]byte, 512)
			n, _ := c.Read(more)
			return HelloAnswer{Ended: "an answer that is no TLS", Foreign: append(head[:], more[:n]...)}
		}
		size := int(binary.BigEndian.Uint16(head[3:]))
		if len(msg)+size > maxHandshakeBytes {
			return HelloAnswer{Ended: "an answer that is too long for a ServerHello"}
		}
		body := make([]byte, size)
		if _, err := io.ReadFull(c, body); err != nil {
			return HelloAnswer{Ended: ended(err)}
		}
		if head[0] == recordAlert {
			if len(body) < 2 {
				return HelloAnswer{Ended: "an alert that is cut short"}
			}
			if body[0] == 1 && body[1] != 0 { // a warning, such as unrecognized_name
				continue
			}
			return HelloAnswer{Alert: body[1], Alerted: true}
		}
		msg = append(msg, body...)
		if len(msg) >= 4 {
			n := int(msg[1])<<16 | int(msg[2])<<8 | int(msg[3])
			if msg[0] != typeServerHello {
				return HelloAnswer{Ended: fmt.Sprintf("a handshake message of type %d in place of ServerHello", msg[0])}
			}
			if len(msg) >= 4+n {
				return parseServerHello(msg[4 : 4+n])
			}
		}
	}
}

// parseServerHello reads version and suite of a ServerHello, or of a HelloRetryRequest, which
// names them too (RFC 8446 §4.1.3, §4.1.4).
func parseServerHello(b []byte) HelloAnswer {
	short := HelloAnswer{Ended: "a ServerHello that is cut short"}
	if len(b) < 35 {
		return short
	}
	a := HelloAnswer{Version: binary.BigEndian.Uint16(b), Taken: true}
	at := 35 + int(b[34]) // past version, random and session identifier
	if len(b) < at+3 {
		return short
	}
	a.Suite = binary.BigEndian.Uint16(b[at:])
	at += 3 // past the compression too
	if len(b) < at+2 {
		return a
	}
	end := at + 2 + int(binary.BigEndian.Uint16(b[at:]))
	at += 2
	for at+4 <= min(end, len(b)) {
		id, n := binary.BigEndian.Uint16(b[at:]), int(binary.BigEndian.Uint16(b[at+2:]))
		at += 4
		if at+n > len(b) {
			return short
		}
		if id == extVersions && n == 2 {
			a.Version = binary.BigEndian.Uint16(b[at:])
		}
		at += n
	}
	return a
}

// Versions are the versions of TLS that are tried, newest first.
var Versions = []uint16{tls.VersionTLS13, tls.VersionTLS12, tls.VersionTLS11, tls.VersionTLS10}

// VersionName writes a version: "1.3".
func VersionName(v uint16) string { return strings.TrimPrefix(tls.VersionName(v), "TLS ") }

// ParseVersion reads "1.0" to "1.3".
func ParseVersion(s string) (uint16, error) {
	for _, v := range Versions {
		if VersionName(v) == strings.TrimPrefix(strings.TrimSpace(s), "TLS ") {
			return v, nil
		}
	}
	return 0, fmt.Errorf("there are TLS 1.0, 1.1, 1.2 and 1.3, not %q", s)
}

// suites are the cipher suites that brokers and devices are seen with, best first within
// each version (IANA, TLS Cipher Suites). Names are the registry's.
var suites = []struct {
	id   uint16
	name string
	old  bool // usable below TLS 1.2 too
}{
	{0x1302, "TLS_AES_256_GCM_SHA384", false}, {0x1303, "TLS_CHACHA20_POLY1305_SHA256", false}, {0x1301, "TLS_AES_128_GCM_SHA256", false},
	{0x1304, "TLS_AES_128_CCM_SHA256", false}, {0x1305, "TLS_AES_128_CCM_8_SHA256", false},
	{0xC02C, "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384", false}, {0xC030, "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384", false},
	{0xC02B, "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256", false}, {0xC02F, "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256", false},
	{0xCCA9, "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256", false}, {0xCCA8, "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256", false},
	{0xC0AD, "TLS_ECDHE_ECDSA_WITH_AES_256_CCM", false}, {0xC0AC, "TLS_ECDHE_ECDSA_WITH_AES_128_CCM", false},
	{0xC0AF, "TLS_ECDHE_ECDSA_WITH_AES_256_CCM_8", false}, {0xC0AE, "TLS_ECDHE_ECDSA_WITH_AES_128_CCM_8", false},
	{0x009F, "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384", false}, {0x009E, "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256", false}, {0xCCAA, "TLS_DHE_RSA_WITH_CHACHA20_POLY1305_SHA256", false},
	{0xC024, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384", false}, {0xC028, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384", false},
	{0xC023, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256", false}, {0xC027, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256", false},
	{0x009D, "TLS_RSA_WITH_AES_256_GCM_SHA384", false}, {0x009C, "TLS_RSA_WITH_AES_128_GCM_SHA256", false},
	{0x003D, "TLS_RSA_WITH_AES_256_CBC_SHA256", false}, {0x003C, "TLS_RSA_WITH_AES_128_CBC_SHA256", false},
	{0xC00A, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA", true}, {0xC014, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA", true},
	{0xC009, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA", true}, {0xC013, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA", true},
	{0x0039, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA", true}, {0x0033, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA", true},
	{0x0035, "TLS_RSA_WITH_AES_256_CBC_SHA", true}, {0x002F, "TLS_RSA_WITH_AES_128_CBC_SHA", true},
	{0xC008, "TLS_ECDHE_ECDSA_WITH_3DES_EDE_CBC_SHA", true}, {0xC012, "TLS_ECDHE_RSA_WITH_3DES_EDE_CBC_SHA", true}, {0x000A, "TLS_RSA_WITH_3DES_EDE_CBC_SHA", true},
	{0xC007, "TLS_ECDHE_ECDSA_WITH_RC4_128_SHA", true}, {0xC011, "TLS_ECDHE_RSA_WITH_RC4_128_SHA", true}, {0x0005, "TLS_RSA_WITH_RC4_128_SHA", true}, {0x0004, "TLS_RSA_WITH_RC4_128_MD5", true},
}

// pskSuites are the suites that go without certificates, by a key that both sides were given
// (RFC 4279, 5487, 5489, 6655, 7905).
var pskSuites = []struct {
	id   uint16
	name string
}{
	{0xD001, "TLS_ECDHE_PSK_WITH_AES_128_GCM_SHA256"}, {0xD002, "TLS_ECDHE_PSK_WITH_AES_256_GCM_SHA384"}, {0xCCAC, "TLS_ECDHE_PSK_WITH_CHACHA20_POLY1305_SHA256"},
	{0x00AB, "TLS_DHE_PSK_WITH_AES_256_GCM_SHA384"}, {0x00AA, "TLS_DHE_PSK_WITH_AES_128_GCM_SHA256"}, {0x00A9, "TLS_PSK_WITH_AES_256_GCM_SHA384"}, {0x00A8, "TLS_PSK_WITH_AES_128_GCM_SHA256"},
	{0xCCAB, "TLS_PSK_WITH_CHACHA20_POLY1305_SHA256"}, {0xC0A4, "TLS_PSK_WITH_AES_128_CCM"}, {0xC0A8, "TLS_PSK_WITH_AES_128_CCM_8"}, {0xC0A9, "TLS_PSK_WITH_AES_256_CCM_8"},
	{0xC037, "TLS_ECDHE_PSK_WITH_AES_128_CBC_SHA256"}, {0x00AE, "TLS_PSK_WITH_AES_128_CBC_SHA256"}, {0x00AF, "TLS_PSK_WITH_AES_256_CBC_SHA384"},
	{0xC035, "TLS_ECDHE_PSK_WITH_AES_128_CBC_SHA"}, {0xC036, "TLS_ECDHE_PSK_WITH_AES_256_CBC_SHA"}, {0x0090, "TLS_DHE_PSK_WITH_AES_128_CBC_SHA"}, {0x008D, "TLS_PSK_WITH_AES_256_CBC_SHA"}, {0x008C, "TLS_PSK_WITH_AES_128_CBC_SHA"},
}

// WantsPSK tells whether a server that takes no suite with certificates takes those of pre-shared
// keys, in TLS 1.2 or older; suite is the one that it chose.
func WantsPSK(ctx context.Context, dial Dialer, serverName string, wait time.Duration) (suite uint16, wants bool) {
	h := Hello{Version: tls.VersionTLS12, ServerName: serverName, Wait: wait}
	for _, s := range pskSuites {
		h.Suites = append(h.Suites, s.id)
	}
	a, err := h.Ask(ctx, dial)
	return a.Suite, err == nil && a.Taken && slices.Contains(h.Suites, a.Suite)
}

// SuitesOf returns the suites that are tried in a version.
func SuitesOf(version uint16) (out []uint16) {
	for _, s := range suites {
		if is13 := s.id>>8 == 0x13; is13 == (version == tls.VersionTLS13) && (version >= tls.VersionTLS12 || s.old) {
			out = append(out, s.id)
		}
	}
	return out
}

// SuiteName returns a suite's name in IANA's registry, or its number.
func SuiteName(id uint16) string {
	for _, s := range suites {
		if s.id == id {
			return s.name
		}
	}
	for _, s := range pskSuites {
		if s.id == id {
			return s.name
		}
	}
	return fmt.Sprintf("suite 0x%04X", id)
}

// ParseSuite reads a suite's name or number.
func ParseSuite(s string) (uint16, error) {
	var id uint16
	if _, err := fmt.Sscanf(strings.ToLower(s), "0x%x", &id); err == nil {
		return id, nil
	}
	for _, x := range suites {
		if strings.EqualFold(x.name, s) || strings.EqualFold(strings.TrimPrefix(x.name, "TLS_"), s) {
			return x.id, nil
		}
	}
	return 0, fmt.Errorf("the cipher suite %q is not known: write its name in IANA's registry, such as TLS_AES_128_GCM_SHA256, or its number, such as 0x1301", s)
}

// WeakSuite says why a suite should not be left on, or "".
func WeakSuite(id uint16) string {
	name := SuiteName(id)
	switch {
	case strings.Contains(name, "RC4"):
		return "RC4 is broken (RFC 7465)"
	case strings.Contains(name, "3DES"):
		return "3DES has blocks of 64 bits, too short today"
	case strings.HasPrefix(name, "TLS_RSA_"):
		return "without forward secrecy: who gets the key later reads all that was recorded"
	}
	return ""
}

// alerts are the names of RFC 8446 §6 and the older standards.
var alerts = map[byte]string{
	0: "close_notify", 10: "unexpected_message", 20: "bad_record_mac", 21: "decryption_failed", 22: "record_overflow", 40: "handshake_failure",
	41: "no_certificate", 42: "bad_certificate", 43: "unsupported_certificate", 44: "certificate_revoked", 45: "certificate_expired", 46: "certificate_unknown",
	47: "illegal_parameter", 48: "unknown_ca", 49: "access_denied", 50: "decode_error", 51: "decrypt_error", 70: "protocol_version", 71: "insufficient_security",
	80: "internal_error", 86: "inappropriate_fallback", 90: "user_canceled", 109: "missing_extension", 110: "unsupported_extension", 112: "unrecognized_name",
	113: "bad_certificate_status_response", 115: "unknown_psk_identity", 116: "certificate_required", 120: "no_application_protocol",
}

// AlertName returns an alert's name.
func AlertName(a byte) string {
	if n, ok := alerts[a]; ok {
		return n
	}
	return fmt.Sprintf("%d", a)
}
