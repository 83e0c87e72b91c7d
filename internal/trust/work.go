package trust

import (
	"encoding/asn1"
	"fmt"
	"math"
	"time"
)

// What opening encrypted files may take: a stranger says how often a hash is applied to a passphrase.
const (
	// maxWork is how many times a hash is applied in all, for the files that are read together: some seconds.
	maxWork = 5_000_000
	// maxOpening is how long one file may take where what it asks for shows inside only.
	maxOpening = 5 * time.Second
	// maxKey is how large a key may be, in bytes: checking that one is sound takes the cube of its length. Those of
	// RSA with 16,384 bit have about 10,000.
	maxKey = 16 << 10
	// maxDepth is how deep structures are looked into.
	maxDepth = 24
)

// work is what may still be done.
type work struct{ left int }

// afford tells why something encrypted is not opened with so many passphrases, or "".
func (w *work) afford(der []byte, passphrases int) string {
	n := asked(der, 0)
	switch cost := n * max(1, passphrases); {
	case n > maxWork || n < 0:
		return fmt.Sprintf("encrypted with a hash that is applied more than %d times", maxWork)
	case cost > w.left || cost < 0:
		return "not tried: opening all that is encrypted here would take too long"
	default:
		w.left -= cost
	}
	return ""
}

// asked adds up how often a structure asks for a hash to be applied: what follows a salt, in PBES1 and PBES2 (RFC 8018
// appendix A), scrypt (RFC 7914 §7: cost, block size and parallelization) and the MAC of PKCS #12 (RFC 7292 §4). It looks
// into octet strings too, and stops counting beyond maxWork.
func asked(der []byte, depth int) (n int) {
	salted, product := false, 0
	flush := func() {
		n += product
		salted, product = false, 0
	}
	for len(der) > 0 && n <= maxWork && n >= 0 {
		var v asn1.RawValue
		rest, err := asn1.Unmarshal(der, &v)
		if err != nil {
			break
		}
		der = rest
		if salted && v.Class == asn1.ClassUniversal && v.Tag == asn1.TagInteger {
			product = max(1, product) * number(v.Bytes)
			if product > maxWork || product < 0 {
				product = maxWork + 1
			}
			continue
		}
		flush()
		salted = v.Class == asn1.ClassUniversal && v.Tag == asn1.TagOctetString
		if depth < maxDepth && (v.IsCompound || salted) {
			n += asked(v.Bytes, depth+1)
		}
	}
	flush()
	return n
}

// number reads an integer in DER, up to what an iteration count may be.
func number(b []byte) int {
	n := 0
	for _, x := range b {
		if n = n<<8 | int(x); n > math.MaxInt32 {
			return math.MaxInt32
		}
	}
	return n
}

// within carries out an opening, and tells whether it came to an end in time. What does not goes on, beside: nothing can
// stop it.
func within(open func()) bool {
	done := make(chan struct{})
	go func() {
		defer close(done)
		open()
	}()
	timer := time.NewTimer(maxOpening)
	defer timer.Stop()
	select {
	case <-done:
		return true
	case <-timer.C:
		return false
	}
}

const tooLongToOpen = "encrypted so that opening it takes more than 5 s"
