package trust

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"

	"github.com/youmark/pkcs8"
)

// LockedError is an encrypted key for which no passphrase, or a wrong one, was given.
type LockedError struct{ Given bool }

// Error says which of the two it is.
func (e *LockedError) Error() string {
	if e.Given {
		return "the key is encrypted, and the passphrase does not open it"
	}
	return "the key is encrypted and needs a passphrase"
}

// Pair puts a certificate chain and its private key together, both in PEM; the key may
// be encrypted as PKCS #8 has it (RFC 5958). A key that cannot be opened gives a
// [*LockedError].
func Pair(chain, key []byte, passphrase string) (tls.Certificate, error) {
	block, _ := pem.Decode(key)
	switch {
	case block == nil:
		return tls.Certificate{}, errors.New("the key's file holds no PEM")
	case block.Headers["DEK-Info"] != "":
		return tls.Certificate{}, fmt.Errorf("the key is encrypted in the old way of PEM headers (RFC 1421), which keeps no secret well: convert it to PKCS #8")
	case block.Type != "ENCRYPTED PRIVATE KEY":
		return tls.X509KeyPair(chain, key)
	case passphrase == "":
		return tls.Certificate{}, &LockedError{}
	}
	private, err := pkcs8.ParsePKCS8PrivateKey(block.Bytes, []byte(passphrase))
	if err != nil {
		return tls.Certificate{}, &LockedError{Given: true}
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("the key is of a kind that TLS has no use for: %w", err)
	}
	return tls.X509KeyPair(chain, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}
