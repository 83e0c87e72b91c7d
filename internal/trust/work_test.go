package trust

import (
	"encoding/asn1"
	"encoding/pem"
	"math/big"
	"strings"
	"testing"
)

func der(t *testing.T, v any) []byte {
	t.Helper()
	b, err := asn1.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

type sealed struct {
	Algorithm struct {
		ID     asn1.ObjectIdentifier
		Params asn1.RawValue
	}
	Data []byte
}

// lock makes an encrypted key in PKCS #8 by PBES2 that asks for a derivation.
func lock(t *testing.T, kdf asn1.ObjectIdentifier, params any) []byte {
	type part struct {
		ID     asn1.ObjectIdentifier
		Params asn1.RawValue
	}
	var s sealed
	s.Algorithm.ID = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	s.Algorithm.Params = asn1.RawValue{FullBytes: der(t, []part{{kdf, asn1.RawValue{FullBytes: der(t, params)}},
		{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}, asn1.RawValue{FullBytes: der(t, make([]byte, 16))}}})}
	s.Data = make([]byte, 64)
	return pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der(t, s)})
}

// TestOpeningTakesNoLongerThanItMay: a stranger's key or key store may ask for years of work; it is told, and not
// begun. What people use is opened.
func TestOpeningTakesNoLongerThanItMay(t *testing.T) {
	pbkdf2, scrypt := asn1.ObjectIdentifier{
		1,
		2,
		840,
		113549,
		1,
		5,
		12,
	}, asn1.ObjectIdentifier{
		1,
		3,
		6,
		1,
		4,
		1,
		11591,
		4,
		11,
	}
	type count struct {
		Salt []byte
		N    *big.Int
	}
	type cost struct {
		Salt    []byte
		N, R, P int
	}
	salt := []byte("saltsalt")
	macced := func(n int64) []byte {
		type data struct {
			ID      asn1.ObjectIdentifier
			Content asn1.RawValue
		}
		return der(t, struct {
			Version int
			Safe    data
			Mac     struct {
				Digest sealed
				Salt   []byte
				N      int64
			}
		}{3, data{oidData, asn1.RawValue{Class: 2, Tag: 0, IsCompound: true, Bytes: der(t, der(t, []int{}))}}, struct {
			Digest sealed
			Salt   []byte
			N      int64
		}{sealed{struct {
			ID     asn1.ObjectIdentifier
			Params asn1.RawValue
		}{asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}, asn1.NullRawValue}, make([]byte, 20)}, salt, n}})
	}
	huge := new(big.Int).Lsh(big.NewInt(1), 100)
	for name, tt := range map[string]struct {
		data   []byte
		beyond bool
	}{
		"2048 iterations":    {lock(t, pbkdf2, count{salt, big.NewInt(2048)}), false},
		"a million":          {lock(t, pbkdf2, count{salt, big.NewInt(1_000_000)}), false},
		"2^31":               {lock(t, pbkdf2, count{salt, big.NewInt(1<<31 - 1)}), true},
		"2^100":              {lock(t, pbkdf2, count{salt, huge}), true},
		"scrypt of 16 MiB":   {lock(t, scrypt, cost{salt, 1 << 14, 8, 1}), false},
		"scrypt of 64 GiB":   {lock(t, scrypt, cost{salt, 1 << 26, 8, 1}), true},
		"scrypt in parallel": {lock(t, scrypt, cost{salt, 1 << 10, 8, 1 << 20}), true},
		"a store":            {macced(2048), false},
		"a store of 2^31":    {macced(1<<31 - 1), true},
	} {
		f := Recognise(name, tt.data, []string{"x"})
		if len(f.Items) != 1 || (f.Items[0].Beyond != "") != tt.beyond ||
			tt.beyond && !strings.Contains(f.Items[0].Beyond, "applied more than 5000000 times") {
			t.Errorf("%s: %s %+v", name, f.Problem, f.Items)
		}
	}
	// Many that are each well take too long together.
	w, tried := &work{10_000}, 0
	for range 8 {
		f := recognise("x", lock(t, pbkdf2, count{salt, big.NewInt(2_000)}), []string{"x"}, w)
		if f.Items[0].Beyond == "" {
			tried++
		} else if !strings.Contains(f.Items[0].Beyond, "would take too long") {
			t.Errorf("%+v", f.Items)
		}
	}
	if tried != 5 {
		t.Errorf("%d of 8 were tried", tried)
	}
	// A key of RSA with 800,000 bit is not checked.
	n := new(big.Int).SetBit(new(big.Int).Lsh(big.NewInt(1), 800_000), 0, 1)
	one := big.NewInt(1)
	rsa := der(
		t,
		struct{ V, N, E, D, P, Q, Dp, Dq, Qi *big.Int }{
			big.NewInt(0),
			n,
			big.NewInt(65537),
			n,
			big.NewInt(3),
			big.NewInt(5),
			one,
			one,
			one,
		},
	)
	if f := Recognise("rsa", rsa, nil); !strings.Contains(f.Problem, "none that TLS has a use for is so large") {
		t.Errorf("%s", f.Problem)
	}
}
