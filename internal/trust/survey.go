package trust

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Verdict is what came of a trial, in the words of the checks.
type Verdict string

// The verdicts.
const (
	Kept      Verdict = "kept"
	Failed    Verdict = "broken"
	Undecided Verdict = "undecided"
	Skipped   Verdict = "skipped"
)

// SurveyOptions say how a server is looked at.
type SurveyOptions struct {
	Dial Dialer
	// Host is what is dialled, without the port; ServerName the name that the certificate
	// must hold, Host where it is empty.
	Host, ServerName string
	// CAs are those to trust; nil for the system's.
	CAs []*x509.Certificate
	// Pairs are the client certificates to try.
	Pairs
	// Revocations are lists that the server's certificate may be on.
	Revocations []*x509.RevocationList
	// Greeting is what the server would answer after the handshake; see [Shake].
	Greeting []byte
	// Device is what a device has; nothing is asked about one without versions.
	Device Device
	// Progress is told what is being tried; may be nil.
	Progress func(string)
}

// VersionTried is a version of TLS as a server takes it.
type VersionTried struct {
	Version uint16
	Taken   bool
	// Suites are those taken, in the order in which the server chose them.
	Suites []uint16
	// Tried are all that were offered.
	Tried []uint16
	// Refusal is how the version, or the last of its suites, was refused.
	Refusal string
}

// Trial is one thing that was tried on a server, and whether it did what it should.
type Trial struct {
	Name     string
	Expected string
	Seen     string
	Verdict  Verdict
}

// Survey is what a server's TLS was found to be.
type Survey struct {
	At         time.Time
	Took       time.Duration
	ServerName string
	Versions   []VersionTried
	Presented  Presented
	// Negotiated is what a client with everything gets.
	Negotiated struct {
		Version, Suite uint16
		Took           time.Duration
	}
	// Asked tells that the server asks for client certificates; Required that it lets nobody
	// in without; CAs whom it names as their issuers.
	Asked, Required bool
	CAs             []string
	OCSP            string
	Resumption      string
	ALPN            string
	Trials          []Trial
	Device          []DeviceTried
	Findings        []Finding
	// Fetched is a CA that only the server itself vouches for, nil for none: not yet trusted.
	Fetched *x509.Certificate
	// Err says why nothing could be found out.
	Err error
}

// errStopped tells that a survey was ended before it was done.
var errStopped = errors.New("stopped before it was found out")

// wrongName is a name that no certificate holds (RFC 2606 §2).
const wrongName = "wrong-name.invalid"

// ALPNProtocol is the identifier of MQTT (IANA, TLS ALPN Protocol IDs).
const ALPNProtocol = "mqtt"

// Look tries a server's TLS: versions and suites, the chain, names, client certificates,
// ALPN, stapling and resumption. It makes some dozens of connections, one after another, and
// ends when the context does.
func Look(ctx context.Context, o SurveyOptions) *Survey {
	start := time.Now()
	s := &Survey{At: start, ServerName: o.ServerName}
	if s.ServerName == "" {
		s.ServerName = o.Host
	}
	say := func(format string, args ...any) {
		if o.Progress != nil {
			o.Progress(fmt.Sprintf(format, args...))
		}
	}
	say("the versions of TLS")
	for _, v := range Versions {
		tried, err := s.version(ctx, o, v, say)
		switch {
		case ctx.Err() != nil:
			s.Err = errStopped
			return s
		case err != nil:
			s.Err = err
			return s
		}
		s.Versions = append(s.Versions, tried)
	}
	if !slices.ContainsFunc(s.Versions, func(v VersionTried) bool { return v.Taken }) {
		s.Err = fmt.Errorf("the server takes no version of TLS: %s", s.Versions[0].Refusal)
		if suite, wants := WantsPSK(ctx, o.Dial, s.ServerName, 0); wants {
			s.Err = fmt.Errorf(
				"the server has no certificate, and takes only clients that share a key with it (TLS-PSK): it chose %s",
				SuiteName(suite),
			)
		}
		return s
	}
	say("the chain, the name, client certificates")
	s.handshakes(ctx, o)
	say("what a device would meet")
	s.device(ctx, o)
	if ctx.Err() != nil && s.Err == nil {
		s.Err = errStopped
	}
	s.conclude(o)
	s.Took = time.Since(start)
	return s
}

// version finds the suites that a server takes in a version, by leaving out of each
// ClientHello what it chose before.
func (s *Survey) version(
	ctx context.Context,
	o SurveyOptions,
	v uint16,
	say func(string, ...any),
) (VersionTried, error) {
	t := VersionTried{Version: v, Tried: SuitesOf(v)}
	left := slices.Clone(t.Tried)
	for len(left) > 0 {
		a, err := Hello{Version: v, Suites: left, ServerName: s.ServerName}.Ask(ctx, o.Dial)
		if err != nil {
			return t, err
		}
		at := slices.Index(left, a.Suite)
		if !a.Taken || a.Version != v || at < 0 {
			switch {
			case a.Taken && a.Version != v:
				t.Refusal = "it chose TLS " + VersionName(a.Version) + " instead"
			case a.Taken:
				t.Refusal = "it chose a suite that was not offered: " + SuiteName(a.Suite)
			default:
				t.Refusal = strings.TrimPrefix(a.String(), "refused: ")
			}
			return t, nil
		}
		t.Taken = true
		t.Suites = append(t.Suites, a.Suite)
		left = slices.Delete(left, at, at+1)
		say("TLS %s: %d suites taken so far", VersionName(v), len(t.Suites))
	}
	return t, nil
}

// config is a client's with nothing special.
func (s *Survey) config(certificate *tls.Certificate) *tls.Config {
	c := &tls.Config{ServerName: s.ServerName, MinVersion: tls.VersionTLS10}
	if certificate != nil {
		c.Certificates = []tls.Certificate{*certificate}
	}
	return c
}

// handshakes makes whole handshakes, with one thing changed at a time.
func (s *Survey) handshakes(ctx context.Context, o SurveyOptions) {
	shake := func(c *tls.Config) Attempt { return Shake(ctx, o.Dial, c, o.Greeting) }
	none := shake(s.config(nil))
	best := none
	if o.Ours != nil {
		best = shake(s.config(o.Ours))
	}
	s.Presented = Verify(best.State.PeerCertificates, o.CAs, s.ServerName, s.At)
	s.Asked, s.CAs = none.Asked || best.Asked, none.CAs
	s.Required = none.Asked && !none.In
	s.Negotiated.Version, s.Negotiated.Suite, s.Negotiated.Took = best.State.Version, best.State.CipherSuite, best.Took
	s.OCSP = stapled(best.State.OCSPResponse, best.State.PeerCertificates, o.CAs, s.At)
	if o.CAs == nil {
		for _, c := range s.Presented.Chain {
			if c.IsCA && s.Presented.Cause != "" && slices.Equal(c.RawSubject, c.RawIssuer) {
				s.Fetched = c
			}
		}
	}
	s.resumption(best, o, shake)
	s.alpn(best, o, shake)
	s.clientTrials(none, best, o, shake)
	// The wrong name is for us to refuse: a client that checks must see the difference.
	t := Trial{Name: "a wrong server name", Expected: "refused by a client that checks names"}
	wrong := s.config(o.Ours)
	wrong.ServerName = wrongName
	a := shake(wrong)
	switch chain := a.State.PeerCertificates; {
	case len(chain) == 0 && a.Alert != "":
		t.Seen, t.Verdict = "the server itself refused it: "+a.Why, Kept
	case len(chain) == 0:
		t.Seen, t.Verdict = a.Why, Undecided
	case chain[0].VerifyHostname(wrongName) == nil:
		t.Seen, t.Verdict = "the certificate covers any name at all", Failed
	default:
		t.Seen, t.Verdict = "the certificate presented does not cover "+wrongName, Kept
	}
	s.Trials = append(s.Trials, t)
}

// resumption makes a second handshake with what the first left (RFC 8446 §2.2).
func (s *Survey) resumption(best Attempt, o SurveyOptions, shake func(*tls.Config) Attempt) {
	if !best.In {
		s.Resumption = "not tried: no handshake stands"
		return
	}
	c := s.config(o.Ours)
	c.ClientSessionCache = tls.NewLRUClientSessionCache(4)
	shake(c)
	again := shake(c)
	switch {
	case !again.In:
		s.Resumption = "not found out: " + again.Why
	case again.State.DidResume:
		s.Resumption = fmt.Sprintf(
			"resumed, in %.2f ms instead of %.2f ms",
			again.Took.Seconds()*1e3,
			best.Took.Seconds()*1e3,
		)
	default:
		s.Resumption = "not resumed: every handshake is a whole one"
	}
}

func (s *Survey) alpn(best Attempt, o SurveyOptions, shake func(*tls.Config) Attempt) {
	c := s.config(o.Ours)
	c.NextProtos = []string{ALPNProtocol}
	with := shake(c)
	t := Trial{Name: "ALPN mqtt", Expected: "the same as without"}
	switch {
	case with.In && with.State.NegotiatedProtocol == ALPNProtocol:
		s.ALPN = "agreed"
		t.Seen = "in, and the server agrees to mqtt"
	case with.In:
		s.ALPN = "ignored"
		t.Seen = "in; the server does not look at ALPN"
	default:
		s.ALPN = "refused: " + with.Why
		t.Seen = "refused: " + with.Why
	}
	switch {
	case with.In == best.In:
		t.Verdict = Kept
	case with.In:
		t.Verdict = Failed
		t.Seen += "; without ALPN it is refused, so every client must offer it"
		s.ALPN = "required"
	default:
		t.Verdict = Failed
		t.Seen += "; without ALPN it is let in"
	}
	s.Trials = append(s.Trials, t)
}

// refusals words the alerts by which servers refuse client certificates.
var refusals = map[string]string{
	"certificate_required": "it wants a certificate", "bad_certificate": "it does not take the certificate", "unknown_ca": "it does not know the CA that signed it",
	"certificate_expired": "it has expired", "certificate_unknown": "it does not take the certificate", "unsupported_certificate": "it is not for TLS clients",
	"certificate_revoked": "it is revoked", "decrypt_error": "its signature does not fit", "handshake_failure": "it wants a certificate", "access_denied": "it may not come in",
}

// word tells how an attempt was refused, and when.
func (a Attempt) word() string {
	s := a.Why
	if w := refusals[a.Alert]; w != "" {
		s += " (" + w + ")"
	}
	if a.Late && a.State.Version == tls.VersionTLS13 {
		return s + ", on the first read after the handshake"
	}
	return s + ", in the handshake"
}

// clientTrials presents client certificates: ours, none, a stranger's, an expired one, ours
// without its key.
func (s *Survey) clientTrials(none, ours Attempt, o SurveyOptions, shake func(*tls.Config) Attempt) {
	add := func(name, expected string, a Attempt, in, out Verdict) {
		t := Trial{Name: name, Expected: expected, Verdict: out}
		switch {
		case a.In:
			t.Seen, t.Verdict = "in", in
		case a.Alert == "" && ours.Answered == a.Answered && !ours.In:
			t.Seen, t.Verdict = a.word(), Undecided // it ends without a word, whatever is presented
		default:
			t.Seen = "refused: " + a.word()
		}
		s.Trials = append(s.Trials, t)
	}
	skip := func(name, why string) {
		s.Trials = append(s.Trials, Trial{Name: name, Verdict: Skipped, Seen: why})
	}
	if o.Ours == nil {
		skip("our certificate", "none was given")
	} else if !s.Asked && ours.In {
		skip("our certificate", "in, but the server did not ask for it")
	} else {
		add("our certificate", "in", ours, Kept, Failed)
	}
	switch {
	case !s.Asked && none.In:
		for _, n := range []string{"no certificate", "a stranger's certificate", "an expired certificate"} {
			skip(n, "the server asks for no certificate")
		}
		return
	case none.In:
		skip("no certificate", "in: the server asks for a certificate, but does not require one")
	default:
		add("no certificate", "refused", none, Failed, Kept)
	}
	stranger, err := strangers(false)
	if err != nil {
		skip("a stranger's certificate", err.Error())
		return
	}
	add("a stranger's certificate", "refused", shake(s.config(&stranger)), Failed, Kept)
	if o.Expired != nil {
		add("an expired certificate", "refused", shake(s.config(o.Expired)), Failed, Kept)
	} else if expired, err := strangers(true); err == nil {
		add("a stranger's, expired too", "refused", shake(s.config(&expired)), Failed, Kept)
	}
	if o.Revoked != nil {
		add("a revoked certificate", "refused", shake(s.config(o.Revoked)), Failed, Kept)
	}
	if o.Ours != nil {
		stolen := tls.Certificate{Certificate: o.Ours.Certificate, PrivateKey: stranger.PrivateKey}
		if SamePublicKind(o.Ours, &stranger) {
			add("our certificate without its key", "refused", shake(s.config(&stolen)), Failed, Kept)
		}
	}
}

// SamePublicKind tells whether two certificates have keys of one kind, so that one could be
// put in the other's place.
func SamePublicKind(a, b *tls.Certificate) bool {
	return fmt.Sprintf("%T", a.PrivateKey) == fmt.Sprintf("%T", b.PrivateKey)
}

// strangers makes a client certificate of a CA that nobody knows.
func strangers(expired bool) (tls.Certificate, error) {
	a, err := NewAuthority("stranger")
	if err != nil {
		return tls.Certificate{}, err
	}
	return a.Issue(Request{CommonName: "stranger", Expired: expired})
}

// Taken lists the versions that the server takes: "1.3, 1.2".
func (s *Survey) Taken() string {
	var names []string
	for _, v := range s.Versions {
		if v.Taken {
			names = append(names, VersionName(v.Version))
		}
	}
	if names == nil {
		return "none"
	}
	return strings.Join(names, ", ")
}

// conclude makes findings of what was seen.
func (s *Survey) conclude(o SurveyOptions) {
	find := func(severity Severity, remedy, format string, args ...any) {
		s.Findings = append(s.Findings, Finding{severity, s.ServerName, fmt.Sprintf(format, args...), remedy})
	}
	if p := &s.Presented; p.Cause != "" {
		find(Broken, p.Remedy, "%s", p.What)
	}
	if s.Fetched != nil {
		find(Worry, "compare its SHA-256 with the owner's, by telephone or on paper: "+Fingerprint(s.Fetched),
			"the CA %q comes from the server itself: not yet trusted", Subject(s.Fetched.Subject.String()))
	}
	if len(s.Presented.Chain) > 0 {
		leaf := s.Presented.Chain[0]
		if left := leaf.NotAfter.Sub(s.At); left > 0 && left < SoonAfter && !shortLived(leaf) {
			find(
				Worry,
				"have it renewed in time",
				"the server's certificate expires on %s, in %s",
				Day(leaf.NotAfter),
				days(left),
			)
		}
		for _, issuer := range slices.Concat(s.Presented.Chain[1:], o.CAs) {
			if at := revocation(leaf, issuer, o.Revocations); !at.IsZero() {
				find(Broken, "have a new one issued", "the server's certificate is revoked since %s", Day(at))
				break
			}
		}
		if w := weak(leaf.PublicKey); w != "" {
			find(Worry, "have it issued anew with a stronger key", "the server's certificate: %s", w)
		}
	}
	for _, t := range s.Trials {
		if t.Verdict == Failed {
			find(Broken, "see the server's configuration", "%s: expected %s, seen: %s", t.Name, t.Expected, t.Seen)
		}
	}
	for i, d := range s.Device {
		if d.In {
			continue
		}
		if i == 0 { // all that the device has
			remedy := "the server takes TLS " + s.Taken() + ": let it take what the device has, or the device what it takes"
			if k := slices.IndexFunc(s.Device, func(d DeviceTried) bool { return d.In }); k > 0 { // the server chose the newest, and found no suite in it
				remedy = "limit the device to TLS " + VersionName(
					s.Device[k].Versions[0],
				) + ": with that alone it gets in"
			}
			find(Broken, remedy, "%s does not get in: %s", d.Title(), d.Seen)
		} else {
			find(Note, "", "%s does not get in: %s", d.Title(), d.Seen)
		}
	}
	var weakOnes []string
	for _, v := range s.Versions {
		if v.Taken && v.Version < tls.VersionTLS12 {
			find(
				Worry,
				"turn it off unless a device needs it",
				"the server still takes TLS %s (deprecated, RFC 8996)",
				VersionName(v.Version),
			)
		}
		for _, id := range v.Suites {
			if w := WeakSuite(id); w != "" && !slices.Contains(weakOnes, SuiteName(id)) {
				weakOnes = append(weakOnes, SuiteName(id))
			}
		}
	}
	if weakOnes != nil {
		find(Worry, "leave them out of its configuration", "the server takes weak suites: %s", list(weakOnes))
	}
	if strings.Contains(s.OCSP, "revoked") {
		find(Broken, "have a new one issued", "OCSP, %s", s.OCSP)
	}
	for _, n := range s.Presented.Notes {
		find(Note, "", "%s", n)
	}
	slices.SortStableFunc(s.Findings, func(a, b Finding) int { return rank(a.Severity) - rank(b.Severity) })
}
