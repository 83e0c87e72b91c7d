package trust

import (
	"crypto/x509"
	"slices"
	"time"
)

// Tree lists the certificates with each below its signer; those whose signer is not there come
// after the others, by the signer's name.
func (v *Inventory) Tree() (out []*Certificate) {
	var under func(*Certificate)
	under = func(c *Certificate) {
		if slices.Contains(out, c) {
			return
		}
		out = append(out, c)
		for _, below := range v.Certificates {
			if len(below.Chain) > 1 && below.Chain[1] == c {
				under(below)
			}
		}
	}
	tops := slices.Clone(v.Certificates)
	slices.SortStableFunc(tops, func(a, b *Certificate) int {
		switch x, y := a.Chain[len(a.Chain)-1].Missing, b.Chain[len(b.Chain)-1].Missing; {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return len(a.Chain) - len(b.Chain)
	})
	for _, c := range tops {
		under(c)
	}
	return out
}

// Span is the time that an axis of validities needs: from the oldest begin to the latest end,
// but at least a month back and three ahead, and at most a year either way.
func (v *Inventory) Span() (from, to time.Time) {
	from, to = v.At.AddDate(0, -1, 0), v.At.AddDate(0, 3, 0)
	for _, c := range v.Certificates {
		if c.NotBefore.Before(from) {
			from = c.NotBefore
		}
		if c.NotAfter.After(to) {
			to = c.NotAfter
		}
	}
	if least := v.At.AddDate(-1, 0, 0); from.Before(least) {
		from = least
	}
	if most := v.At.AddDate(1, 0, 0); to.After(most) {
		to = most
	}
	return from, to
}

// Suites lists the suites that are taken in any version, those of the newest first.
func (s *Survey) Suites() (out []uint16) {
	for _, v := range s.Versions {
		for _, id := range v.Suites {
			if !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
	}
	return out
}

// TrustedCAs returns the CA that clients of the server need, and whether only the server
// itself vouches for it: then it is not yet to be trusted.
func (s *Survey) TrustedCAs() (cas []*x509.Certificate, fetched bool) {
	switch n := len(s.Presented.Chain); {
	case s.Presented.Root != nil:
		return []*x509.Certificate{s.Presented.Root}, false
	case s.Fetched != nil:
		return []*x509.Certificate{s.Fetched}, true
	case n > 0:
		return s.Presented.Chain[n-1:], true
	}
	return nil, false
}
