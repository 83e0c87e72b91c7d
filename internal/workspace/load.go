package workspace

import (
	"crypto/tls"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/infile"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trust"
)

// loader fills a workspace from nodes.
type loader struct {
	w     *Workspace
	fsys  fs.FS
	files map[string]string // hashes of those that were read, by name

	others      []*reader      // of files that the contract includes
	definitions map[string]any // parts of schemas
}

// section notes what defines a part: its text, and what the files hold that were read for it.
func (l *loader) section(part string, n node, before map[string]string) {
	text := ""
	if n.n != nil {
		text = n.n.String()
	}
	for _, name := range slices.Sorted(maps.Keys(l.files)) {
		if _, known := before[name]; !known {
			text += "\x00" + name + l.files[name]
		}
	}
	l.w.sections[part] = text
}

var workspaceShape = shape[Workspace]{"workspace", "The whole file.", []key[Workspace]{
	own("hodstone", "integer", "The version of this language: 1.", func(_ *loader, _ *Workspace, v node) {
		if v.exists() && v.str("hodstone") != "1" {
			v.fail("this program reads version 1", "version %q of the language is not known", v.str("hodstone"))
		}
	}).must(),
	text("name", "What the workspace is about, for titles.", func(w *Workspace) *string { return &w.Name }),
	later("brokers", "map of broker", "The brokers by name. The first is used where none is named."),
	later("logins", "map of login", "The client identities by name."),
	later("contract", "contract", "Who says what, where and how."),
	texts(
		"credentials",
		"Files and folders of certificates and keys, for the trust screen to look at; relative to this"+
			" file's folder.",
		func(w *Workspace) *[]string { return &w.Credentials },
	),
	later("devices", "map of device", "The simulated devices by name."),
	later("trials", "list of trial", "Checks of your own."),
	later("messages", "map of message", "Messages that stand ready to be sent by hand."),
	later("readouts", "list of readout", "Live values that are shown beside their devices."),
	later("loads", "map of load", "Loads on brokers: many clients at once."),
	later("taps", "map of tap", "What stands between real devices and their broker."),
}}

// later is a section that is read once those that it names are, see [loader.load].
func later(name, typ, doc string) key[Workspace] {
	return own(name, typ, doc, func(*loader, *Workspace, node) {})
}

// load reads the sections in the order in which they name one another, whatever theirs is in the file.
func (l *loader) load(root node) {
	f := workspaceShape.read(l, root, "the workspace", l.w)
	for _, e := range f["logins"].entries("logins") {
		l.login(e)
		l.section("login "+e.key, e.value, nil)
	}
	for _, e := range f["brokers"].entries("brokers") {
		l.broker(e)
		if l.section("broker "+e.key, e.value, nil); l.w.Broker(e.key) == nil {
			root.r.unsound["broker "+e.key] = true
		}
	}
	before := maps.Clone(l.files)
	l.contract(f["contract"])
	l.section("contract", f["contract"], before)
	before = maps.Clone(l.files)
	for _, e := range f["devices"].entries("devices") {
		l.device(e)
		l.section("device "+e.key, e.value, before)
	}
	for _, e := range f["taps"].entries("taps") {
		l.tap(e)
	}
	for _, e := range f["loads"].entries("loads") {
		l.aLoad(e)
	}
	for _, e := range f["messages"].entries("messages") {
		l.message(e)
	}
	for _, v := range f["readouts"].list() {
		l.readout(v)
	}
	for _, v := range f["trials"].list() {
		l.trial(v)
	}
	l.section("trials", f["trials"], nil)
}

func names[T any](items []T, name func(T) string) (out []string) {
	for _, x := range items {
		out = append(out, name(x))
	}
	return out
}

func (l *loader) loginNames() []string {
	return names(l.w.Logins, func(x *Login) string { return x.Name })
}
func (l *loader) clauseNames() []string {
	return names(l.w.Contract.Clauses, func(c *contract.Clause) string { return c.Name })
}
func (l *loader) partyNames() []string {
	return names(l.w.Contract.Parties, func(p contract.Party) string { return p.Name })
}

// certificate reads a client's certificate and key from files.
func (l *loader) certificate(c, k, pass node) *tls.Certificate {
	chain, ok := l.file(c)
	if !ok {
		return nil
	}
	var key []byte
	if k.exists() {
		if key, ok = l.file(k); !ok {
			return nil
		}
	}
	passphrase := Secret{}
	if pass.exists() {
		if passphrase, ok = l.secret(pass, "the passphrase"); !ok {
			return nil
		}
	}
	pair, err := trust.Pair(chain, key, passphrase.Reveal())
	if err != nil {
		at, hint := c, "'hodstone trust FOLDER' tells what the files are and which belong together"
		if !k.exists() {
			hint = "add key: FILE"
		}
		var locked *trust.LockedError
		if errors.As(err, &locked) {
			if k.exists() {
				at = k
			}
			hint = "give passphrase: {env: NAME} or {file: path}"
		}
		at.fail(hint, "certificate and key cannot be used: %v", err)
		return nil
	}
	return &pair
}

// file reads a file beside the workspace that a node names.
func (l *loader) file(n node) ([]byte, bool) {
	if name := path.Clean(n.str("file")); !slices.Contains(l.w.TrustFiles, name) {
		l.w.TrustFiles = append(l.w.TrustFiles, name)
	}
	b, err := fs.ReadFile(l.fsys, path.Clean(n.str("file")))
	if err != nil {
		n.fail("the path is relative to the workspace's folder", "%s cannot be read", n.str("file"))
	}
	return b, err == nil
}

// secret reads a value, or where it is kept outside the file.
func (l *loader) secret(n node, what string) (Secret, bool) {
	entries := []entry(nil)
	if strings.HasPrefix(describe(n.real()), "a mapping") {
		entries = n.entries(what)
	}
	if entries == nil {
		return NewSecret(n.str(what)), true
	}
	if len(entries) != 1 || entries[0].key != "env" && entries[0].key != "file" {
		n.fail("write {env: NAME} or {file: path}", "%s cannot be read", what)
		return Secret{}, false
	}
	switch where := entries[0].value.str(what); entries[0].key {
	case "env":
		v, ok := os.LookupEnv(where)
		if !ok {
			entries[0].value.fail(
				"set it before starting Hodstone: export "+where+"=…",
				"%s is missing: the environment variable %s is not set",
				what,
				where,
			)
		}
		return NewSecret(v), ok
	default:
		b, err := l.secretFile(where)
		if err != nil {
			entries[0].value.fail(
				"the path is relative to the workspace's folder, or begins with /",
				"%s is missing: %s cannot be read",
				what,
				where,
			)
			return Secret{}, false
		}
		return NewSecret(strings.TrimRight(string(b), "\r\n")), true
	}
}

// secretFile reads a file that holds a secret: it may stand outside of the workspace's folder.
func (l *loader) secretFile(name string) ([]byte, error) {
	if local := path.Clean(name); fs.ValidPath(local) {
		if b, err := fs.ReadFile(l.fsys, local); err == nil {
			return b, nil
		}
	}
	if !filepath.IsAbs(name) {
		name = filepath.Join(filepath.Dir(l.w.File), name)
	}
	return infile.Read(name, maxSecret)
}

// known checks that a name is among those defined.
func (n node) known(what string, all []string) (string, bool) {
	told := len(n.r.problems)
	s := n.str(what)
	if !n.exists() || slices.Contains(all, s) {
		return s, true
	}
	if len(n.r.problems) == told && !n.r.unsound[what+" "+s] { // what is wrong with it is told where it is defined
		hint := suggest(s, all)
		if len(all) == 0 && defined[what] != "" {
			hint = "there are none yet; they stand under " + defined[what]
		}
		n.fail(hint, "%s %q is not defined", what, s)
	}
	return s, false
}

func (n node) version() (packet.Version, bool) {
	v, err := packet.ParseVersion(n.str("version"))
	if err != nil {
		n.fail("write 3.1, 3.1.1 or 5", "protocol version %q is not known", n.str("version"))
		return 0, false
	}
	return v, true
}
