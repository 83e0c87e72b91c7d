package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/trust"
)

func (r *runner) tlsDiagnosis(ctx context.Context, v *visit, a approach) *Diagnosis {
	var chain *chainError
	if errors.As(v.err, &chain) {
		p := &chain.presented
		cause, known := chainCauses[p.Cause]
		if !known {
			cause = CertRefused
		}
		d := &Diagnosis{Cause: cause, What: p.What, Remedy: p.Remedy}
		if len(p.Chain) > 0 {
			d.Seen = fmt.Sprintf("%d certificates presented, the server's SHA-256 %s", len(p.Chain), trust.Fingerprint(p.Chain[0]))
		}
		return d
	}
	if d := r.clientCertificate(v, a); d != nil {
		return d
	}
	alert := trust.AlertOf(v.err)
	if d := r.helloDiagnosis(ctx, v, a, alert); d != nil {
		return d
	}
	if alert == "" {
		if d := r.answers(ctx, a); d != nil {
			return d
		}
	}
	switch {
	case alert == "unrecognized_name":
		return &Diagnosis{Cause: TLSName, What: fmt.Sprintf("the server knows no host %q", r.serverName()), Remedy: "dial it by its name, or set server-name: it decides by that which certificate to show"}
	case alert == "no_application_protocol":
		return &Diagnosis{Cause: TLSALPN, What: "the server takes only clients that name their protocol by ALPN", Remedy: "the port is meant for another protocol, or the client must offer ALPN mqtt"}
	case errors.Is(v.err, context.DeadlineExceeded):
		return &Diagnosis{Cause: SilentServer, What: "the TLS handshake gets no answer", Remedy: "a plain port that waits for more, or a server that hangs: is it the right port?"}
	}
	if d := r.alpnDiagnosis(ctx, a); d != nil {
		return d
	}
	return &Diagnosis{Cause: TLSFailed, What: "the TLS handshake fails: " + strings.TrimPrefix(v.err.Error(), "tls: "), Remedy: "'hodstone trust --at " + a.address + "' tries it in every way"}
}

// alpnDiagnosis tells whether the server wants the protocol to be named (RFC 7301).
func (r *runner) alpnDiagnosis(ctx context.Context, a approach) *Diagnosis {
	config := r.tlsConfig(&visit{}, a)
	config.NextProtos, config.VerifyConnection = []string{trust.ALPNProtocol}, nil
	switch got := trust.Shake(ctx, trust.Dialer(r.plain(a)), config, Greeting(r.endpoint)); {
	case got.In && got.State.NegotiatedProtocol == trust.ALPNProtocol:
		return &Diagnosis{Cause: TLSALPN, What: "the server takes only clients that name the protocol mqtt by ALPN", Remedy: "let the client offer ALPN mqtt (RFC 7301)"}
	case got.Alert == "no_application_protocol":
		return &Diagnosis{Cause: TLSALPN, What: "the server takes only clients that name another protocol than mqtt by ALPN", Remedy: "this port is meant for something else: find the broker's, mostly 8883"}
	}
	return nil
}

// helloDiagnosis tells by ClientHellos of our own whether versions or suites are the matter.
func (r *runner) helloDiagnosis(ctx context.Context, v *visit, a approach, alert string) *Diagnosis {
	var taken []string
	suite := uint16(0)
	for _, version := range trust.Versions {
		got, err := trust.Hello{Version: version, Suites: trust.SuitesOf(version), ServerName: r.serverName(), Wait: r.o.Wait}.Ask(ctx, trust.Dialer(r.plain(a)))
		if err != nil {
			return nil
		}
		if got.Taken && got.Version == version {
			taken = append(taken, trust.VersionName(version))
			if version >= tls.VersionTLS12 && suite == 0 {
				suite = got.Suite
			}
		}
		if got.Ended == "silent" || got.Foreign != nil || got.Ended != "" && len(taken) == 0 && version == tls.VersionTLS12 {
			return nil // it does not speak TLS
		}
	}
	switch {
	case len(taken) == 0:
		if suite, wants := trust.WantsPSK(ctx, trust.Dialer(r.plain(a)), r.serverName(), r.o.Wait); wants {
			return &Diagnosis{Cause: TLSPSK, What: "the server has no certificate, and takes only clients that share a key with it (TLS-PSK), which Hodstone does not speak",
				Remedy: "ask for a listener with certificates; a device needs the key's identity and the key", Seen: "it chose " + trust.SuiteName(suite)}
		}
		return nil
	case taken[0] == "1.1" || taken[0] == "1.0":
		return &Diagnosis{Cause: TLSVersion, What: fmt.Sprintf("the server takes only TLS %s, which is deprecated (RFC 8996); Hodstone asks for 1.2 or newer, as clients do today", strings.Join(taken, " and ")),
			Remedy: "let the server take TLS 1.2; for a device that has nothing newer, see 'hodstone trust --device-tls'", Seen: v.err.Error()}
	case (alert == "handshake_failure" || alert == "insufficient_security") && !goHas(suite):
		return &Diagnosis{Cause: TLSSuites, What: "server and client have no cipher suite in common: the server would choose " + trust.SuiteName(suite), Remedy: "let the server take a suite of today, such as TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"}
	}
	return nil
}

// goHas tells whether the standard library's client offers a suite by itself.
func goHas(suite uint16) bool {
	for _, s := range tls.CipherSuites() {
		if s.ID == suite && !strings.HasPrefix(s.Name, "TLS_RSA_") {
			return true
		}
	}
	return false
}

// clientCertificate diagnoses a server that wants a client certificate, or does not take ours.
// It says so by an alert, in TLS 1.3 only when the client reads for the first time; some close
// without a word.
func (r *runner) clientCertificate(v *visit, a approach) *Diagnosis {
	alert := trust.AlertOf(v.err)
	ours := certificateOf(a.login)
	if !v.asked {
		return nil
	}
	d := &Diagnosis{Seen: alert}
	if alert != "" {
		d.Seen = "alert: " + alert
	}
	set := func(c Cause, what, remedy string) *Diagnosis {
		d.Cause, d.What, d.Remedy = c, what, remedy
		return d
	}
	if ours == nil {
		if alert == "" && len(v.tap.bytes()) > 0 && v.failed == StageConnect {
			return nil // it went on
		}
		return set(ClientCertWanted, "the server wants a client certificate"+fromWhom(v.cas), "give one: 'certificate' and 'key' on the login in a workspace, --certificate and --key on the command line")
	}
	name := trust.Subject(ours.Subject.String())
	now := r.o.Now()
	switch {
	case alert == "" && v.failed == StageConnect && len(v.tap.bytes()) > 0:
		return nil
	case now.After(ours.NotAfter):
		return set(ClientCertOld, fmt.Sprintf("the client certificate %s expired on %s", name, trust.Day(ours.NotAfter)), "have it renewed")
	case now.Before(ours.NotBefore):
		return set(ClientCertOld, fmt.Sprintf("the client certificate %s is not valid before %s", name, ours.NotBefore.UTC().Format("2006-01-02 15:04 UTC")), "compare this machine's clock with the server's")
	case alert == "" && v.failed == StageConnect && foreign(a.login.Certificate, v.cas):
		return set(ClientCertCA, fmt.Sprintf("the server ends the link right after our client certificate %s; it asked for one%s, and ours is of %s", name, fromWhom(v.cas), trust.Subject(ours.Issuer.String())), "present a certificate of a CA that it knows, or give that CA to the server")
	case alert == "":
		return nil
	case !forClients(ours):
		return set(ClientCertUse, fmt.Sprintf("the client certificate %s is not meant for clients (its extended key usage)", name), "have one issued for TLS clients")
	case alert == "unknown_ca", foreign(a.login.Certificate, v.cas):
		return set(ClientCertCA, fmt.Sprintf("the server does not know the CA that signed the client certificate %s: %s", name, trust.Subject(ours.Issuer.String())), "present a certificate of a CA that it knows"+fromWhom(v.cas)+", or give that CA to the server; is the intermediate sent too?")
	case alert == "decrypt_error":
		return set(ClientCertKey, fmt.Sprintf("the key does not belong to the client certificate %s", name), "'hodstone trust' on the folder tells which key fits")
	case alert == "certificate_expired":
		return set(ClientCertOld, fmt.Sprintf("the server takes the client certificate %s for expired", name), "compare the clocks; renew it")
	case alert == "certificate_revoked":
		return set(ClientCertRevoke, fmt.Sprintf("the client certificate %s is revoked: it is on the server's list", name), "have a new one issued, or have it taken off the list")
	case strings.Contains(alert, "certificate"), alert == "handshake_failure", alert == "access_denied":
		return set(ClientCertBad, fmt.Sprintf("the server does not take the client certificate %s", name), "the server's log tells why: revoked? a subject that it does not know? the intermediate missing?")
	}
	return nil
}

func forClients(c *x509.Certificate) bool {
	return len(c.ExtKeyUsage) == 0 || slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageClientAuth) || slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageAny)
}

// foreign tells whether none of the chain's issuers is among the CAs that the server named.
func foreign(chain *tls.Certificate, cas []string) bool {
	if len(cas) == 0 {
		return false
	}
	for _, der := range chain.Certificate {
		if c, err := x509.ParseCertificate(der); err == nil && slices.Contains(cas, string(c.RawIssuer)) {
			return false
		}
	}
	return true
}

func fromWhom(cas []string) string {
	var names []string
	for _, raw := range cas {
		names = append(names, trust.SubjectOf([]byte(raw)))
	}
	if len(names) == 0 {
		return ""
	}
	if len(names) > 3 {
		names = append(names[:3], "others")
	}
	return " of " + strings.Join(names, ", ")
}
