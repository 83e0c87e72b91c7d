package report

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"hodstone/internal/plain"
	"hodstone/internal/trust"
)

// signs are what stands before a finding or verdict; a word always goes with it.
var signs = map[string]string{
	string(trust.Broken):    "✗",
	string(trust.Worry):     "!",
	string(trust.Note):      "·",
	string(trust.Kept):      "✓",
	string(trust.Undecided): "?",
	string(trust.Skipped):   "-",
}

// FileLine says in a line what a file is.
func FileLine(f *trust.File) string {
	if len(f.Items) == 0 {
		return f.Problem
	}
	var parts []string
	count := map[string]int{}
	for i := range f.Items {
		item := &f.Items[i]
		text := string(item.Kind)
		switch {
		case item.Certificate != nil:
			text += " of " + trust.Subject(item.Certificate.Subject.String())
		case item.Request != nil:
			text += " for " + trust.Subject(item.Request.Subject.String())
		case item.Revocations != nil:
			l := item.Revocations
			text += fmt.Sprintf(
				" of %s, %s",
				trust.Subject(l.Issuer.String()),
				counted(len(l.RevokedCertificateEntries), "certificate"),
			)
			if !l.NextUpdate.IsZero() {
				text += ", until " + trust.Day(l.NextUpdate)
			}
		case item.Public != nil:
			text += " (" + trust.Strength(item.Public) + ")"
		}
		if item.Beyond != "" {
			text += ", " + item.Beyond
		}
		if item.Locked && item.Kind == trust.KindKey {
			text += ", opened with a passphrase"
		}
		if count[text]++; count[text] == 1 {
			parts = append(parts, text)
		}
	}
	const most = 4
	if len(parts) > most {
		parts = append(parts[:most], fmt.Sprintf("%d more", len(parts)-most))
	}
	form := f.Items[0].Form
	s := strings.Join(parts, "; ") + " [" + form + "]"
	if f.Problem != "" {
		s += "; " + f.Problem
	}
	return s
}

// LoginYAML writes the login that a certificate and its key make, as it goes into a workspace:
// the login, and what its listener needs. Paths are made relative to dir.
func LoginYAML(i *trust.Identity, dir string) string { return LoginsYAML([]trust.Identity{*i}, dir) }

// LoginsYAML writes logins as [LoginYAML] does, in one block.
func LoginsYAML(all []trust.Identity, dir string) string {
	path := func(name string) string {
		if abs, err := filepath.Abs(name); err == nil {
			if base, err := filepath.Abs(dir); err == nil {
				if rel, err := filepath.Rel(base, abs); err == nil && !strings.HasPrefix(rel, "..") {
					name = rel
				}
			}
		}
		return Scalar(filepath.ToSlash(name))
	}
	var b strings.Builder
	var cas []string
	b.WriteString("logins:\n")
	for _, i := range all {
		plain.Fprintf(&b, "  %s: {certificate: %s", i.Name, path(i.CertificateFile))
		if i.KeyFile != i.CertificateFile {
			plain.Fprintf(&b, ", key: %s", path(i.KeyFile))
		}
		if i.Locked {
			plain.Fprintf(
				&b,
				", passphrase: {env: %s}",
				strings.ToUpper(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(i.Name, "_"))+"_PASSPHRASE",
			)
		}
		b.WriteString("}\n")
		if i.CAFile != "" && !slices.Contains(cas, path(i.CAFile)) {
			cas = append(cas, path(i.CAFile))
		}
	}
	for _, ca := range cas {
		plain.Fprintf(&b, "# and on the listener, if the same CA signed the broker's certificate:\n#   ca: %s\n", ca)
	}
	return b.String()
}

var plainScalar = regexp.MustCompile(`^[A-Za-z0-9_./-]*[A-Za-z_/][A-Za-z0-9_./-]*$`)

// Scalar writes a text as a scalar of YAML, in quotes where it needs them.
func Scalar(s string) string {
	if plainScalar.MatchString(s) {
		return s
	}
	quoted, _ := json.Marshal(s)
	return string(quoted)
}

func span(from, to time.Time) string { return trust.Day(from) + " to " + trust.Day(to) }

// Trust writes what files amount to, in lines.
func Trust(w io.Writer, v *trust.Inventory) {
	width := 0
	for _, f := range v.Files {
		width = min(40, max(width, len([]rune(filepath.Base(f.Name)))))
	}
	plain.Fprintf(w, "%s\n", counted(len(v.Files), "file"))
	for _, f := range v.Files {
		sign := "✓"
		switch {
		case f.Problem != "":
			sign = "✗"
		case len(f.Anomalies) > 0 || f.Has(trust.KindLockedKey) || f.Has(trust.KindLockedStore):
			sign = "·"
		}
		plain.Fprintf(w, "  %s %-*s  %s\n", sign, width, filepath.Base(f.Name), FileLine(f))
	}
	if len(v.Certificates) > 0 {
		plain.Fprintf(w, "\n%s\n", counted(len(v.Certificates), "certificate"))
	}
	for _, c := range v.Certificates {
		plain.Fprintf(
			w,
			"  %s: %s, %s, %s\n",
			c.Title(),
			c.Role,
			trust.Strength(c.PublicKey),
			span(c.NotBefore, c.NotAfter),
		)
		if names := c.Names(); len(names) > 0 {
			plain.Fprintf(w, "      names    %s\n", strings.Join(names, ", "))
		}
		if u := trust.Usages(c.Certificate); len(u) > 0 {
			plain.Fprintf(w, "      use      %s\n", strings.Join(u, ", "))
		}
		plain.Fprintf(w, "      chain    %s\n      SHA-256  %s\n", ChainText(c), trust.Fingerprint(c.Certificate))
		if c.Key != nil {
			plain.Fprintf(w, "      key      %s\n", strings.Join(Bases(c.Key.Files), ", "))
		}
	}
	findingLines(w, v.Findings)
	if n := len(v.Identities); n > 0 {
		plain.Fprintf(
			w,
			"\n%s, ready for a workspace\n%s",
			counted(n, "login"),
			indent(LoginsYAML(v.Identities, "."), "  "),
		)
	}
}

// ChainText writes a certificate's chain: "pen-1 ← intermediate ← root".
func ChainText(c *trust.Certificate) string {
	var names []string
	for _, x := range c.Chain {
		names = append(names, x.Title())
	}
	switch {
	case c.Missing != "":
		names = append(names, "✗ "+c.Missing+" is missing")
	case c.System:
		names = append(names, "a root that this machine trusts")
	}
	return strings.Join(names, " ← ")
}

// Bases returns the names of files without their folders.
func Bases(files []string) (out []string) {
	for _, f := range files {
		out = append(out, filepath.Base(f))
	}
	return out
}

func indent(s, by string) string {
	return by + strings.ReplaceAll(strings.TrimRight(s, "\n"), "\n", "\n"+by) + "\n"
}

func counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func findingLines(w io.Writer, fs []trust.Finding) {
	if len(fs) == 0 {
		fmt.Fprint(w, "\nnothing is wrong\n")
		return
	}
	plain.Fprintf(w, "\n%s\n", counted(len(fs), "finding"))
	for _, f := range fs {
		plain.Fprintf(w, "  %s %-6s %s: %s\n", signs[string(f.Severity)], f.Severity, filepath.Base(f.Where), f.What)
		if f.Remedy != "" {
			plain.Fprintf(w, "             → %s\n", f.Remedy)
		}
	}
}

// Survey writes what a server's TLS was found to be, in lines.
func Survey(w io.Writer, where string, s *trust.Survey) {
	plain.Fprintf(w, "%s, as %s\n", where, s.ServerName)
	if s.Err != nil {
		plain.Fprintf(w, "  ✗ not found out: %v\n", s.Err)
	}
	for _, v := range s.Versions {
		if !v.Taken {
			plain.Fprintf(w, "  TLS %s  - not taken: %s\n", trust.VersionName(v.Version), v.Refusal)
			continue
		}
		plain.Fprintf(
			w,
			"  TLS %s  ✓ taken, %d of %d suites\n",
			trust.VersionName(v.Version),
			len(v.Suites),
			len(v.Tried),
		)
		for _, id := range v.Suites {
			note := ""
			if weak := trust.WeakSuite(id); weak != "" {
				note = "  ! " + weak
			}
			plain.Fprintf(w, "             %s%s\n", trust.SuiteName(id), note)
		}
	}
	if s.Err != nil {
		return
	}
	plain.Fprintf(
		w,
		"  a client with everything gets TLS %s, %s, in %.1f ms\n",
		trust.VersionName(s.Negotiated.Version),
		trust.SuiteName(s.Negotiated.Suite),
		ms(s.Negotiated.Took),
	)
	plain.Fprintf(w, "\nthe chain as presented\n")
	for i, c := range s.Presented.Chain {
		plain.Fprintf(
			w,
			"  %d %s, %s, %s, names %s\n    SHA-256 %s\n",
			i+1,
			trust.Subject(c.Subject.String()),
			trust.Strength(c.PublicKey),
			span(c.NotBefore, c.NotAfter),
			orNone(trust.NamesOf(c)),
			trust.Fingerprint(c),
		)
	}
	if s.Presented.Cause == "" && s.Presented.Root != nil {
		plain.Fprintf(
			w,
			"  ✓ it leads to %s, and covers %s\n",
			trust.Subject(s.Presented.Root.Subject.String()),
			s.ServerName,
		)
	}
	asks := "the server asks for no client certificate"
	switch {
	case s.Required:
		asks = "the server requires a client certificate"
	case s.Asked:
		asks = "the server asks for a client certificate, but does not require one"
	}
	if len(s.CAs) > 0 {
		asks += ", of " + strings.Join(s.CAs, ", ")
	}
	plain.Fprintf(w, "  OCSP: %s; resumption: %s; ALPN mqtt: %s\n  %s\n\ntried\n", s.OCSP, s.Resumption, s.ALPN, asks)
	for _, t := range s.Trials {
		plain.Fprintf(w, "  %s %-9s %s: %s\n", signs[string(t.Verdict)], t.Verdict, t.Name, t.Seen)
	}
	for _, d := range s.Device {
		sign, limited := "✓", ""
		if !d.In {
			sign = "✗"
		}
		if len(d.Suites) > 0 {
			limited = fmt.Sprintf(" and %s", counted(len(d.Suites), "suite"))
		}
		plain.Fprintf(w, "  %s %s%s: %s\n", sign, d.Title(), limited, d.Seen)
	}
	findingLines(w, s.Findings)
}

func orNone(items []string) string {
	if len(items) == 0 {
		return "none"
	}
	return strings.Join(items, ", ")
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// FindingRecord is a finding in JSON.
type FindingRecord struct {
	Severity string `json:"severity"`
	Where    string `json:"where,omitempty"`
	What     string `json:"what"`
	Remedy   string `json:"remedy,omitempty"`
}

func findingRecords(fs []trust.Finding) []FindingRecord {
	out := []FindingRecord{}
	for _, f := range fs {
		out = append(out, FindingRecord{string(f.Severity), f.Where, f.What, f.Remedy})
	}
	return out
}

// CertificateRecord is a certificate in JSON.
type CertificateRecord struct {
	Subject     string    `json:"subject"`
	Issuer      string    `json:"issuer"`
	Role        string    `json:"role,omitempty"`
	Serial      string    `json:"serial"`
	NotBefore   time.Time `json:"not_before"`
	NotAfter    time.Time `json:"not_after"`
	Key         string    `json:"key"`
	Signature   string    `json:"signature"`
	Names       []string  `json:"names"`
	Usages      []string  `json:"usages"`
	Fingerprint string    `json:"sha256"`
	Files       []string  `json:"files,omitempty"`
	KeyFiles    []string  `json:"key_files,omitempty"`
	Chain       []string  `json:"chain,omitempty"`
	Missing     string    `json:"missing_issuer,omitempty"`
	Revoked     time.Time `json:"revoked,omitzero"`
}

// TrustDocument is what files and a server's TLS amount to, in JSON.
type TrustDocument struct {
	Files        []FileRecord        `json:"files"`
	Certificates []CertificateRecord `json:"certificates"`
	Logins       []LoginRecord       `json:"logins"`
	Findings     []FindingRecord     `json:"findings"`
	Server       *SurveyRecord       `json:"server,omitempty"`
}

// FileRecord is a file in JSON.
type FileRecord struct {
	Name      string       `json:"name"`
	Bytes     int64        `json:"bytes"`
	Mode      string       `json:"mode,omitempty"`
	Items     []ItemRecord `json:"items"`
	Anomalies []string     `json:"anomalies"`
	Problem   string       `json:"problem,omitempty"`
}

// ItemRecord is what a file holds, in JSON.
type ItemRecord struct {
	Kind   string `json:"kind"`
	Form   string `json:"form"`
	Locked bool   `json:"locked,omitempty"`
	Key    string `json:"key,omitempty"`
}

// LoginRecord is a login that files make, in JSON.
type LoginRecord struct {
	Name        string `json:"name"`
	Certificate string `json:"certificate"`
	Key         string `json:"key"`
	CA          string `json:"ca,omitempty"`
	Workspace   string `json:"workspace"`
}

// SurveyRecord is a server's TLS in JSON.
type SurveyRecord struct {
	Address    string              `json:"address"`
	ServerName string              `json:"server_name"`
	Error      string              `json:"error,omitempty"`
	Versions   []VersionRecord     `json:"versions"`
	Chain      []CertificateRecord `json:"chain"`
	Cause      string              `json:"chain_problem,omitempty"`
	Required   bool                `json:"client_certificate_required"`
	Asked      bool                `json:"client_certificate_asked"`
	OCSP       string              `json:"ocsp"`
	Resumption string              `json:"resumption"`
	ALPN       string              `json:"alpn_mqtt"`
	Trials     []TrialRecord       `json:"trials"`
	Device     []TrialRecord       `json:"device,omitempty"`
	Findings   []FindingRecord     `json:"findings"`
}

// VersionRecord is a version of TLS in JSON.
type VersionRecord struct {
	Version string   `json:"version"`
	Taken   bool     `json:"taken"`
	Suites  []string `json:"suites"`
	Refusal string   `json:"refusal,omitempty"`
}

// TrialRecord is something tried, in JSON.
type TrialRecord struct {
	Name     string `json:"name"`
	Expected string `json:"expected,omitempty"`
	Seen     string `json:"seen"`
	Verdict  string `json:"verdict"`
}

func certificateRecord(c *trust.Certificate) CertificateRecord {
	r := CertificateRecord{
		Subject:     c.Subject.String(),
		Issuer:      c.Issuer.String(),
		Role:        string(c.Role),
		Serial:      fmt.Sprintf("%x", c.SerialNumber),
		NotBefore:   c.NotBefore,
		NotAfter:    c.NotAfter,
		Key:         trust.Strength(c.PublicKey),
		Signature:   c.SignatureAlgorithm.String(),
		Names:       c.Names(),
		Usages:      trust.Usages(c.Certificate),
		Fingerprint: trust.Fingerprint(c.Certificate),
		Files:       c.Files,
		Missing:     c.Missing,
		Revoked:     c.Revoked,
	}
	if c.Key != nil {
		r.KeyFiles = c.Key.Files
	}
	for _, x := range c.Chain {
		r.Chain = append(r.Chain, x.Title())
	}
	return r
}

// NewTrustDocument makes the document; survey may be nil.
func NewTrustDocument(v *trust.Inventory, where string, s *trust.Survey) TrustDocument {
	d := TrustDocument{
		Files:        []FileRecord{},
		Certificates: []CertificateRecord{},
		Logins:       []LoginRecord{},
		Findings:     findingRecords(v.Findings),
	}
	for _, f := range v.Files {
		r := FileRecord{Name: f.Name, Bytes: f.Size, Items: []ItemRecord{}, Anomalies: []string{}, Problem: f.Problem}
		if f.Mode != 0 {
			r.Mode = fmt.Sprintf("%04o", f.Mode.Perm())
		}
		for i := range f.Items {
			item := &f.Items[i]
			x := ItemRecord{Kind: string(item.Kind), Form: item.Form, Locked: item.Locked}
			if item.Public != nil {
				x.Key = trust.Strength(item.Public)
			}
			r.Items = append(r.Items, x)
		}
		for _, m := range f.Anomalies {
			r.Anomalies = append(r.Anomalies, m.What)
		}
		d.Files = append(d.Files, r)
	}
	for _, c := range v.Certificates {
		d.Certificates = append(d.Certificates, certificateRecord(c))
	}
	for i := range v.Identities {
		x := &v.Identities[i]
		d.Logins = append(d.Logins, LoginRecord{x.Name, x.CertificateFile, x.KeyFile, x.CAFile, LoginYAML(x, ".")})
	}
	if s != nil {
		d.Server = surveyRecord(where, s)
	}
	return d
}

func surveyRecord(where string, s *trust.Survey) *SurveyRecord {
	r := &SurveyRecord{
		Address:    where,
		ServerName: s.ServerName,
		Versions:   []VersionRecord{},
		Chain:      []CertificateRecord{},
		Cause:      string(s.Presented.Cause),
		Required:   s.Required,
		Asked:      s.Asked,
		OCSP:       s.OCSP,
		Resumption: s.Resumption,
		ALPN:       s.ALPN,
		Trials:     []TrialRecord{},
		Findings:   findingRecords(s.Findings),
	}
	if s.Err != nil {
		r.Error = s.Err.Error()
	}
	for _, v := range s.Versions {
		x := VersionRecord{
			Version: trust.VersionName(v.Version),
			Taken:   v.Taken,
			Suites:  []string{},
			Refusal: v.Refusal,
		}
		for _, id := range v.Suites {
			x.Suites = append(x.Suites, trust.SuiteName(id))
		}
		r.Versions = append(r.Versions, x)
	}
	for _, c := range s.Presented.Chain {
		r.Chain = append(r.Chain, certificateRecord(&trust.Certificate{Certificate: c}))
	}
	for _, t := range s.Trials {
		r.Trials = append(r.Trials, TrialRecord{t.Name, t.Expected, t.Seen, string(t.Verdict)})
	}
	for _, x := range s.Device {
		verdict := trust.Kept
		if !x.In {
			verdict = trust.Failed
		}
		r.Device = append(r.Device, TrialRecord{x.Title(), "in", x.Seen, string(verdict)})
	}
	return r
}

// TrustJSON writes the document.
func TrustJSON(w io.Writer, d TrustDocument) error {
	return writeJSON(w, d)
}
