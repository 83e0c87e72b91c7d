package trust

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"unicode/utf16"
)

// Limits of reading credentials.
const (
	maxFile    = 16 << 20 // the largest bundles of CAs have a few hundred KiB
	maxFiles   = 2_000    // of a folder: more is no folder of credentials
	maxItems   = 5_000    // of one file
	maxWrapped = 3        // how often a file may be wrapped in another encoding
)

// Kind is what an item of a file is.
type Kind string

// The kinds of items.
const (
	KindCertificate Kind = "certificate"
	KindKey         Kind = "private key"
	KindLockedKey   Kind = "encrypted private key"
	KindLockedStore Kind = "encrypted key store"
	KindPublicKey   Kind = "public key"
	KindRequest     Kind = "certificate request"
	KindRevocations Kind = "revocation list"
	KindParameters  Kind = "parameters"
	KindForeign     Kind = "not for TLS"
)

// Item is one thing that a file holds.
type Item struct {
	Kind Kind
	// Form is how it is written: "PEM, PKCS #8", "DER", "PKCS #12".
	Form        string
	Certificate *x509.Certificate        // of a certificate
	Request     *x509.CertificateRequest // of a certificate request
	Revocations *x509.RevocationList     // of a revocation list
	// Public is the public key of a certificate, request or key; nil while it is locked.
	Public crypto.PublicKey
	// Key is the private key; it is never shown.
	Key crypto.Signer `json:"-"`
	// Locked tells that the item was encrypted, also when a passphrase has opened it.
	Locked bool
	// Beyond says why no passphrase opens it here; "" where one may.
	Beyond string
	// Note says what else is known, for people.
	Note string
}

// Anomaly is something odd about a file that did not keep it from being read here, but
// may keep other programs from it.
type Anomaly struct {
	What   string
	Remedy string
}

// File is a file of credentials, as far as it was understood.
type File struct {
	Name      string // as it was given
	Size      int64
	Mode      fs.FileMode
	Items     []Item
	Anomalies []Anomaly
	// Problem says why nothing, or not all, could be read; Remedy what to do. Both are
	// empty for a sound file.
	Problem, Remedy string
}

// Has tells whether the file holds an item of the kind.
func (f *File) Has(k Kind) bool {
	for i := range f.Items {
		if f.Items[i].Kind == k {
			return true
		}
	}
	return false
}

// LockedItems counts what no passphrase has opened.
func (f *File) LockedItems() (n int) {
	for i := range f.Items {
		if k := f.Items[i].Kind; (k == KindLockedKey || k == KindLockedStore) && f.Items[i].Beyond == "" {
			n++
		}
	}
	return n
}

func (f *File) anomaly(what, remedy string) {
	for _, m := range f.Anomalies {
		if m.What == what {
			return
		}
	}
	f.Anomalies = append(f.Anomalies, Anomaly{what, remedy})
}

func (f *File) fail(problem, remedy string) {
	if f.Problem == "" {
		f.Problem, f.Remedy = problem, remedy
	}
}

// add keeps an item.
func (f *File) add(i Item) {
	if len(f.Items) < maxItems {
		f.Items = append(f.Items, i)
		return
	}
	f.fail(fmt.Sprintf("it holds more than %d items; the rest is left out", maxItems), "give a smaller file")
}

// ReadPaths reads files, and the files of folders, in the order of their names, each once. What cannot be
// read is a File with a Problem; passphrases are tried on whatever is encrypted.
func ReadPaths(paths []string, passphrases []string) []*File {
	var out []*File
	seen := map[string]bool{}
	w := &work{maxWork}
	read := func(name string) {
		if clean := filepath.Clean(name); !seen[clean] {
			seen[clean] = true
			out = append(out, readFile(name, passphrases, w))
		}
	}
	for _, p := range paths {
		info, err := os.Stat(p)
		if err != nil || !info.IsDir() {
			read(p)
			continue
		}
		var names []string
		err = filepath.WalkDir(p, func(name string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				out = append(out, unreadable(name, err))
				if d != nil && d.IsDir() {
					return fs.SkipDir
				}
				return nil
			case d.IsDir() && name != p && strings.HasPrefix(d.Name(), "."):
				return fs.SkipDir
			case !d.IsDir():
				names = append(names, name)
			}
			if len(names) >= maxFiles {
				return fs.SkipAll
			}
			return nil
		})
		sort.Strings(names)
		for _, name := range names {
			read(name)
		}
		switch {
		case err != nil:
			out = append(out, unreadable(p, err))
		case len(names) >= maxFiles:
			out = append(
				out,
				&File{
					Name:    p,
					Problem: fmt.Sprintf("the folder has %d files or more; the rest is left out", maxFiles),
					Remedy:  "name the folder of the credentials",
				},
			)
		case len(names) == 0:
			out = append(out, &File{Name: p, Problem: "the folder is empty", Remedy: "name another"})
		}
	}
	return out
}

func unreadable(name string, err error) *File {
	f := &File{Name: name}
	switch {
	case errors.Is(err, fs.ErrPermission):
		f.fail("it may not be read by this user", "who owns it can allow that: chmod u+r, or run as that user")
	case errors.Is(err, fs.ErrNotExist):
		if target, linkErr := os.Readlink(name); linkErr == nil {
			f.fail("it is a link to "+target+", which is not there", "copy the file itself, not the link")
		} else {
			f.fail("there is no such file", "check the path")
		}
	default:
		var at *fs.PathError
		if errors.As(err, &at) {
			err = at.Err
		}
		f.fail("it cannot be read: "+err.Error(), "check the path")
	}
	return f
}

func readFile(name string, passphrases []string, w *work) *File {
	file, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe must not hold us up
	if err != nil {
		return unreadable(name, err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return unreadable(name, err)
	}
	if !info.Mode().IsRegular() {
		return &File{
			Name:    name,
			Mode:    info.Mode(),
			Problem: "it is no file but a " + modeWord(info.Mode()),
			Remedy:  "name a file",
		}
	}
	data, err := io.ReadAll(io.LimitReader(file, maxFile+1))
	if err != nil {
		return unreadable(name, err)
	}
	f := recognise(name, data, passphrases, w)
	f.Mode, f.Size = info.Mode(), info.Size()
	return f
}

func modeWord(m fs.FileMode) string {
	switch {
	case m&fs.ModeNamedPipe != 0:
		return "pipe"
	case m&fs.ModeSocket != 0:
		return "socket"
	case m&fs.ModeDevice != 0:
		return "device"
	}
	return "folder"
}

// Recognise tells what a file's content is, whatever its name says. It reads PEM (RFC 7468)
// and DER: certificates, keys in PKCS #1, SEC 1 and PKCS #8, key stores in PKCS #12,
// bundles in PKCS #7, Java's key stores, requests and revocation lists; and it sees through what mail, editors and
// firmware sources do to them. Passphrases are tried on what is encrypted.
func Recognise(name string, data []byte, passphrases []string) *File {
	return recognise(name, data, passphrases, &work{maxWork})
}

func recognise(name string, data []byte, passphrases []string, w *work) *File {
	f := &File{Name: name, Size: int64(len(data))}
	if len(data) > maxFile {
		f.fail(fmt.Sprintf("it is larger than %d MiB: no credentials are", maxFile>>20), "is it the right file?")
		return f
	}
	r := recogniser{f: f, passphrases: passphrases, work: w}
	r.content(data, 0)
	f.nameAnomalys()
	return f
}

// recogniser reads one file.
type recogniser struct {
	f           *File
	passphrases []string
	inPEM       bool
	work        *work
}

// magic tells files that are no credentials by their first bytes.
var magic = []struct{ begin, what, remedy string }{
	{"PK\x03\x04", "a ZIP archive", "unpack it and name the folder"},
	{"\x1f\x8b", "a gzip archive", "unpack it and name the folder"},
	{"7z\xbc\xaf\x27\x1c", "a 7z archive", "unpack it and name the folder"},
	{
		"\xce\xce\xce\xce",
		"a Java key store (JCEKS), which keeps its content from other programs",
		"convert it to PKCS #12 with Java's own tool, then give that file",
	},
	{"%PDF", "a PDF document", "ask for the credentials as a file of their own"},
	{"\x89PNG", "a picture (PNG)", "ask for the credentials as a file of their own"},
	{"\xff\xd8\xff", "a picture (JPEG)", "ask for the credentials as a file of their own"},
	{"\xd0\xcf\x11\xe0", "an office document", "ask for the credentials as a file of their own"},
	{"ssh-", "a public key for SSH", "TLS needs a certificate (X.509)"},
	{"ecdsa-sha2-", "a public key for SSH", "TLS needs a certificate (X.509)"},
}

// content looks at bytes, which may be wrapped: depth counts how often they were.
func (r *recogniser) content(data []byte, depth int) {
	f := r.f
	if len(data) == 0 {
		f.fail("it is empty", "fetch it again: a download or a copy that failed leaves empty files")
		return
	}
	if len(bytes.Trim(data, "\x00")) == 0 {
		f.fail(fmt.Sprintf("it holds nothing but %d zero bytes", len(data)), "fetch it again: the copy was cut short")
		return
	}
	if bytes.HasPrefix(data, []byte(jksMagic)) {
		r.javaStore(data)
		return
	}
	for _, m := range magic {
		if bytes.HasPrefix(data, []byte(m.begin)) {
			f.fail("it is "+m.what, m.remedy)
			return
		}
	}
	if beginsDER(data) {
		r.der(data)
		return
	}
	text, ok := r.text(data)
	if !ok {
		f.fail("its content is neither PEM nor DER", "is it the right file? ask for PEM: it begins with -----BEGIN")
		return
	}
	low := strings.ToLower(strings.TrimSpace(text[:min(len(text), 512)]))
	switch {
	case strings.HasPrefix(low, "<!doctype html") || strings.HasPrefix(low, "<html"):
		f.fail(
			"it is a web page: most likely a login or error page that was saved in place of the file",
			"fetch it again when logged in",
		)
	case begins.MatchString(text):
		r.pem(text)
	case depth < maxWrapped && r.wrapped(text, depth):
	case strings.Contains(text, "BEGIN ") || strings.Contains(text, "END "):
		f.fail(
			"it looks like PEM whose -----BEGIN or -----END line is damaged",
			"copy the file as a whole, from -----BEGIN to the last dash of -----END",
		)
	default:
		f.fail("it is text, but holds no credentials", "PEM begins with a line -----BEGIN …-----")
	}
}

// beginsDER tells whether data begins with a SEQUENCE of DER. The keys of Ed25519 are so short that
// their length is one byte, as the second of a text that begins with 0 is; but a text has no bytes
// below the tabulator.
func beginsDER(data []byte) bool {
	if len(data) < 3 || data[0] != 0x30 {
		return false
	}
	if data[1] >= 0x80 {
		return true
	}
	return (data[2] == 0x02 || data[2] == 0x30) &&
		bytes.ContainsFunc(data[:min(len(data), 16)], func(c rune) bool { return c < '\t' })
}

// text returns the data as text with plain line ends, and notes what had to be done for that.
func (r *recogniser) text(data []byte) (string, bool) {
	f := r.f
	const again = "save it as plain ASCII"
	switch {
	case bytes.HasPrefix(data, []byte("\xef\xbb\xbf")):
		f.anomaly(
			"a byte order mark (BOM) stands before the text: some TLS libraries do not find -----BEGIN then",
			again,
		)
		data = data[3:]
	case bytes.HasPrefix(data, []byte("\xff\xfe")), bytes.HasPrefix(data, []byte("\xfe\xff")),
		len(data) > 3 && data[0] != 0 && data[1] == 0 && data[2] != 0 && data[3] == 0:
		var order binary.ByteOrder = binary.LittleEndian
		if data[0] == 0xfe {
			order = binary.BigEndian
		}
		units := make([]uint16, len(data)/2)
		for i := range units {
			units[i] = order.Uint16(data[2*i:])
		}
		f.anomaly("it is written in UTF-16: few TLS libraries read that", again)
		data = []byte(strings.TrimPrefix(string(utf16.Decode(units)), "\ufeff"))
	}
	if trimmed := bytes.TrimRight(data, "\x00"); len(trimmed) < len(data) {
		f.anomaly("zero bytes stand at its end, as a buffer of fixed length leaves them", "cut them off")
		data = trimmed
	}
	if bytes.ContainsRune(data, 0) {
		return "", false
	}
	for _, c := range data {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' && c != '\f' && c != '\v' {
			return "", false
		}
	}
	text := string(data)
	switch {
	case strings.Contains(text, "\r\n"):
		f.anomaly(
			"its lines end in CR LF, as some systems write them: strict readers on devices stumble over the CR",
			"convert the line ends to LF for firmware",
		)
	case strings.Contains(text, "\r"):
		f.anomaly("its lines end in CR alone: most readers see one long line", "convert the line ends to LF")
	}
	return strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text), true
}

// endings says what people expect behind a file's ending: kinds, and whether PEM or DER
// ("" for either).
var endings = map[string]struct {
	form  string
	kinds []Kind
}{
	".key": {"", []Kind{KindKey, KindLockedKey}},
	".crt": {
		"",
		[]Kind{KindCertificate},
	}, ".cer": {"", []Kind{KindCertificate}}, ".cert": {"", []Kind{KindCertificate}},
	".pem": {"PEM", nil}, ".der": {"DER", nil},
	".p12": {"PKCS #12", nil}, ".pfx": {"PKCS #12", nil},
	".p7b": {"PKCS #7", nil}, ".p8": {"PKCS #8", []Kind{KindKey, KindLockedKey}},
	".csr": {"", []Kind{KindRequest}}, ".crl": {"", []Kind{KindRevocations}}, ".pub": {"", []Kind{KindPublicKey}},
}

// nameAnomalys compares the name with the content.
func (f *File) nameAnomalys() {
	base := strings.ToLower(filepath.Base(f.Name))
	ext := filepath.Ext(base)
	inner := filepath.Ext(strings.TrimSuffix(base, ext))
	_, known := endings[inner]
	if known && (ext == inner || ext == ".txt" || ext == ".bin" || ext == ".download") {
		f.anomaly(
			fmt.Sprintf("its ending is doubled (%s%s): mail programs and browsers do that", inner, ext),
			"rename it to "+strings.TrimSuffix(filepath.Base(f.Name), filepath.Ext(f.Name)),
		)
		ext = inner
	}
	want, known := endings[ext]
	if !known || len(f.Items) == 0 {
		return
	}
	if want.form != "" {
		for i := range f.Items {
			if strings.Contains(f.Items[i].Form, want.form) {
				goto kinds
			}
		}
		f.anomaly(
			fmt.Sprintf("its ending %s says %s, but it holds %s", ext, want.form, f.Items[0].Form),
			"rename it, or convert it for programs that go by the ending",
		)
	}
kinds:
	if want.kinds == nil {
		return
	}
	for _, k := range want.kinds {
		if f.Has(k) {
			return
		}
	}
	f.anomaly(
		fmt.Sprintf("its ending %s says %s, but it holds %s", ext, want.kinds[0], article(f.Items[0].Kind)),
		"rename it",
	)
}

func article(k Kind) string {
	switch k {
	case KindParameters, KindForeign:
		return string(k)
	}
	if strings.ContainsRune("aeiou", rune(k[0])) {
		return "an " + string(k)
	}
	return "a " + string(k)
}
