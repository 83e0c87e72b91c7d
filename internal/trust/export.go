package trust

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"slices"
	"strings"
)

// ExportFormats are the formats that [ExportCA] writes.
var ExportFormats = []string{"pem", "der", "c", "cpp", "go", "rust"}

// ExportCA writes CA certificates as a file for TLS libraries (pem, der) or as a constant for
// firmware (c, cpp, go, rust). DER holds one certificate only. fetched marks certificates that
// nobody but the server itself vouches for.
func ExportCA(format string, certificates []*x509.Certificate, fetched bool) ([]byte, error) {
	var text []byte
	for _, c := range certificates {
		text = append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	switch {
	case !slices.Contains(ExportFormats, format):
		return nil, fmt.Errorf("a CA is exported as %s, not as %q", strings.Join(ExportFormats, ", "), format)
	case len(certificates) == 0:
		return nil, fmt.Errorf("there is no CA to export: give the file of its certificate")
	case format == "pem" && fetched: // text before the block is allowed (RFC 7468 §5.2)
		return append([]byte(untrusted+"\n"), text...), nil
	case format == "pem":
		return text, nil
	case format == "der" && len(certificates) > 1:
		return nil, fmt.Errorf("there are %d CAs, and DER holds one: name the file of one of them, or export pem", len(certificates))
	case format == "der":
		return certificates[0].Raw, nil
	}
	out := constant(format, certificates, strings.TrimRight(string(text), "\n"))
	if fetched {
		out = append([]byte("// "+untrusted+"\n"), out...)
	}
	return out, nil
}

const untrusted = "NOT YET TRUSTED: fetched from the server itself. Compare the fingerprint by another way."

// constant writes source code. The text ends with a line end and, in C, with the zero that
// libraries count in.
func constant(format string, certificates []*x509.Certificate, text string) []byte {
	var b strings.Builder
	b.WriteString("// The CA that the broker's certificate is checked against, in PEM:\n")
	for _, c := range certificates {
		fmt.Fprintf(&b, "//   %s, until %s,\n//   SHA-256 %s\n", comment(Subject(c.Subject.String())), Day(c.NotAfter), Fingerprint(c))
	}
	lines := strings.Split(text, "\n")
	switch format {
	case "c", "cpp":
		if format == "c" {
			b.WriteString("static const char ca_pem[] =\n")
		} else {
			b.WriteString("inline constexpr char ca_pem[] =\n")
		}
		for i, l := range lines {
			end := ""
			if i == len(lines)-1 {
				end = ";"
			}
			fmt.Fprintf(&b, "\t\"%s\\n\"%s\n", l, end)
		}
	case "go":
		fmt.Fprintf(&b, "const caPEM = `%s\n`\n", text)
	case "rust":
		fmt.Fprintf(&b, "pub const CA_PEM: &str = \"\\\n%s\n\";\n", text)
	}
	return []byte(b.String())
}

// comment keeps a name from ending the comment that it stands in.
func comment(s string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == '\\' || c == 0x7f || c == 0x2028 || c == 0x2029 {
			return '.'
		}
		return c
	}, s)
}

// CAs returns the certificates of an inventory that clients should be given to trust: the
// roots, or, where there is none, the self-signed certificates.
func (v *Inventory) CAs() (out []*x509.Certificate) {
	for _, role := range []Role{RoleRoot, RoleSelfSigned} {
		for _, c := range v.Certificates {
			if c.Role == role {
				out = append(out, c.Certificate)
			}
		}
		if out != nil {
			return out
		}
	}
	return nil
}
