package trust

import (
	"encoding/asn1"
	"slices"
)

// What is whole, and beyond what can be used here: keys on curves and of kinds that the standard
// library does not know. They are named, for "unknown" sends people looking in the wrong place.

// curveNames are named curves by object identifier (SEC 2, RFC 5639, RFC 5480 §2.1.1.1).
var curveNames = []struct{ id, name string }{
	{"1.3.132.0.10", "secp256k1"}, {"1.2.840.10045.3.1.1", "P-192"}, {"1.3.132.0.1", "sect163k1"}, {"1.3.132.0.15", "sect163r2"}, {"1.3.132.0.31", "secp192k1"}, {"1.3.132.0.32", "secp224k1"}, {"1.3.132.0.33", "P-224"},
	{"1.3.36.3.3.2.8.1.1.3", "brainpoolP192r1"}, {"1.3.36.3.3.2.8.1.1.5", "brainpoolP224r1"}, {"1.3.36.3.3.2.8.1.1.7", "brainpoolP256r1"}, {"1.3.36.3.3.2.8.1.1.8", "brainpoolP256t1"},
	{"1.3.36.3.3.2.8.1.1.9", "brainpoolP320r1"}, {"1.3.36.3.3.2.8.1.1.11", "brainpoolP384r1"}, {"1.3.36.3.3.2.8.1.1.13", "brainpoolP512r1"}, {"1.2.156.10197.1.301", "SM2"},
}

// The algorithms of keys (RFC 5480 §2.1.1, RFC 8410 §3, RFC 4055 §1.2, RFC 3279 §2.3.2).
const (
	algEC, algDSA, algPSS = "1.2.840.10045.2.1", "1.2.840.10040.4.1", "1.2.840.113549.1.1.10"
	algX25519, algX448    = "1.3.101.110", "1.3.101.111"
	algEd448              = "1.3.101.113"
	remedyP256            = "have key and certificate made anew on P-256: every device that knows ECDSA takes it"
	remedyRSA             = "have key and certificate made anew as plain RSA, or on P-256"
	notSigning, notInTLS  = "a key for key agreement: no certificate is made of it", "a DSA key: TLS 1.3 has no use for it, and libraries have dropped it"
	explicitCurve         = "a curve that is spelt out by its numbers in place of its name, which certificates must not do (RFC 5480 §2.1.1)"
	unnamedCurve          = "a curve without a common name"
)

// algorithm is an AlgorithmIdentifier (RFC 5280 §4.1.1.2).
type algorithm struct {
	ID     asn1.ObjectIdentifier
	Params asn1.RawValue `asn1:"optional"`
}

// curve names the curve of parameters in DER.
func curve(params asn1.RawValue) string {
	if params.Tag == asn1.TagSequence {
		return explicitCurve
	}
	var id asn1.ObjectIdentifier
	if _, err := asn1.Unmarshal(params.FullBytes, &id); err != nil {
		return unnamedCurve
	}
	at := slices.IndexFunc(curveNames, func(c struct{ id, name string }) bool { return c.id == id.String() })
	if at < 0 {
		return unnamedCurve + " (" + id.String() + ")"
	}
	return "the curve " + curveNames[at].name + ", which few TLS libraries know, Hodstone's neither"
}

// words says what kind of key an algorithm stands for, and what to do; "" for one that is known.
func (a algorithm) words() (what, remedy string) {
	switch a.ID.String() {
	case algEC:
		return "its key is on " + curve(a.Params), remedyP256
	case algEd448:
		return "its key is of the kind Ed448, which few TLS libraries know, Hodstone's neither", remedyP256
	case algPSS:
		return "its key is for RSA-PSS alone (RFC 4055), which Hodstone cannot use, nor can many devices", remedyRSA
	case algX25519, algX448:
		return "it is " + notSigning, "ask for the key that fits the certificate"
	case algDSA:
		return "it is " + notInTLS, remedyP256
	}
	return "", ""
}

// beyondKey names a private key that cannot be used, by its outer structure; "" for what is no key.
func beyondKey(der []byte) (what, remedy string) {
	var pkcs8 struct { // RFC 5958 §2
		Version   int
		Algorithm algorithm
		Key       []byte
		Rest      asn1.RawValue `asn1:"optional,tag:0"`
		Public    asn1.RawValue `asn1:"optional,tag:1"`
	}
	if _, err := asn1.Unmarshal(der, &pkcs8); err == nil && pkcs8.Version <= 1 {
		return pkcs8.Algorithm.words()
	}
	var sec1 struct { // SEC 1 §C.4
		Version int
		Key     []byte
		Curve   asn1.RawValue  `asn1:"optional,explicit,tag:0"`
		Public  asn1.BitString `asn1:"optional,explicit,tag:1"`
	}
	if _, err := asn1.Unmarshal(der, &sec1); err == nil && sec1.Version == 1 && len(sec1.Key) >= 16 {
		if len(sec1.Curve.FullBytes) == 0 {
			return "it is an EC key that does not say its curve", "give its parameters too, or write it as PKCS #8"
		}
		var params asn1.RawValue
		if _, err := asn1.Unmarshal(sec1.Curve.Bytes, &params); err != nil {
			params = sec1.Curve
		}
		return "its key is on " + curve(params), remedyP256
	}
	return "", ""
}

// beyondCertificate names the kind of a certificate's key where that is why it cannot be used.
func beyondCertificate(public asn1.RawValue) (what, remedy string) {
	var key struct {
		Algorithm algorithm
		Key       asn1.BitString
	}
	if _, err := asn1.Unmarshal(public.FullBytes, &key); err != nil {
		return "", ""
	}
	return key.Algorithm.words()
}

// beyondLock names a way of encryption that cannot be opened here (RFC 8018 §A, RFC 7292 §C); ""
// for one that may be.
func beyondLock(id asn1.ObjectIdentifier) string {
	switch {
	case prefixed(id, oidPKCS12):
		return "encrypted in the way of old key stores (PKCS #12, SHA-1 with 3DES or RC2)"
	case prefixed(id, oidPKCS5) && id[len(id)-1] < 12: // PBES1
		return "encrypted in the way of the first PKCS #5 (PBES1, MD5 or SHA-1 with DES or RC2)"
	}
	return ""
}
