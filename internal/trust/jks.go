package trust

import (
	"bytes"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"github.com/pavlo-v-chernykh/keystore-go/v4"
)

// jksMagic begins a key store of Java's own format.
const jksMagic = "\xfe\xed\xfe\xed"

// javaDefault is the passphrase that Java's documents use, and that many stores therefore have.
const javaDefault = "changeit"

// jks walks through a key store of Java's. Its certificates are in the clear, and every length is
// held against what is there, before the package that decrypts its keys gets to see it.
type jks struct {
	data         []byte
	certificates []*x509.Certificate
	keys         int
}

var errShort = errors.New("it is cut short")

func (j *jks) take(n int) ([]byte, error) {
	if n < 0 || n > len(j.data) {
		return nil, errShort
	}
	b := j.data[:n]
	j.data = j.data[n:]
	return b, nil
}

func (j *jks) number() (int, error) {
	b, err := j.take(4)
	if err != nil {
		return 0, err
	}
	return int(binary.BigEndian.Uint32(b)), nil
}

// text skips a string, behind its length in two bytes.
func (j *jks) text() error {
	b, err := j.take(2)
	if err == nil {
		_, err = j.take(int(binary.BigEndian.Uint16(b)))
	}
	return err
}

// block takes bytes behind their length.
func (j *jks) block() ([]byte, error) {
	n, err := j.number()
	if err != nil {
		return nil, err
	}
	return j.take(n)
}

func (j *jks) certificate() error {
	if err := j.text(); err != nil {
		return err
	}
	der, err := j.block()
	if err != nil {
		return err
	}
	if c, err := x509.ParseCertificate(der); err == nil {
		j.certificates = append(j.certificates, c)
	}
	return nil
}

// walk reads the store: magic, version, and entries with a key and its chain, or a certificate.
func (j *jks) walk() error {
	j.data = j.data[len(jksMagic):]
	version, err := j.number()
	if err != nil {
		return err
	}
	if version != 2 {
		return fmt.Errorf("it is of version %d, which is not known", version)
	}
	entries, err := j.number()
	if err != nil {
		return err
	}
	for range entries {
		kind, err := j.number()
		if err == nil {
			err = j.text() // the alias
		}
		if err == nil {
			_, err = j.take(8) // when it was made
		}
		if err != nil {
			return err
		}
		chain := 1
		switch kind {
		case 1:
			j.keys++
			if _, err = j.block(); err == nil {
				chain, err = j.number()
			}
			if err != nil {
				return err
			}
		case 2:
		default:
			return fmt.Errorf("it holds an entry of kind %d, which is not known", kind)
		}
		for range chain {
			if err := j.certificate(); err != nil {
				return err
			}
		}
	}
	_, err = j.take(20) // the digest over all
	return err
}

// javaStore reads a key store of Java's.
func (r *recogniser) javaStore(data []byte) {
	f := r.f
	j := jks{data: data}
	if err := j.walk(); err != nil {
		f.fail(
			"it is a Java key store (JKS): "+err.Error(),
			"fetch it again, as a whole; binary files must be copied as binary",
		)
		return
	}
	opened := 0
	for _, pass := range append(slices.Clone(r.passphrases), javaDefault) {
		ks := keystore.New()
		if opened > 0 || j.keys == 0 || ks.Load(bytes.NewReader(data), []byte(pass)) != nil {
			continue
		}
		for _, alias := range ks.Aliases() {
			for _, inner := range append([]string{pass}, r.passphrases...) { // a key may have one of its own
				entry, err := ks.GetPrivateKeyEntry(alias, []byte(inner))
				if err != nil {
					continue
				}
				if key, _ := parseKey(entry.PrivateKey); key != nil {
					opened++
					f.add(Item{Kind: KindKey, Form: "JKS", Key: key, Public: key.Public(), Locked: true})
				}
				break
			}
		}
		if pass == javaDefault {
			r.opensByDefault()
		}
	}
	for range j.keys - opened {
		f.add(Item{Kind: KindLockedKey, Form: "JKS", Locked: true})
	}
	for _, c := range j.certificates {
		r.certificate(c, "JKS")
	}
	if len(f.Items) == 0 {
		f.fail("it is a Java key store (JKS) that holds nothing of use", "is it the right file?")
		return
	}
	f.anomaly(
		"it is a key store of Java's own format: other programs do not read it",
		"convert it to PKCS #12 with Java's own tool, where others need it",
	)
}

func (r *recogniser) opensByDefault() {
	r.f.anomaly(
		fmt.Sprintf(
			"the key store opens with %q, the passphrase of Java's documents: its key is open to whoever has the file",
			javaDefault,
		),
		"give it a passphrase of its own",
	)
}
