// Package workspace reads the one file that opens everything: brokers, logins, contract and
// devices. What is wrong is told by line and column; what is sound is kept.
package workspace

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// Limits of a workspace.
const (
	maxFileSize = 4 << 20 // a workspace is written by hand
	maxDevices  = 1_000   // of one kind; more is a matter of load, not of simulation
)

// Secret is text that is never shown.
type Secret struct{ value string }

// NewSecret marks a text as secret.
func NewSecret(s string) Secret { return Secret{s} }

// Reveal returns the text itself, for use in a packet.
func (s Secret) Reveal() string { return s.value }

// String hides it.
func (Secret) String() string { return "•••" }

// GoString hides it from %#v.
func (Secret) GoString() string { return "•••" }

// MarshalText hides it from encoders.
func (Secret) MarshalText() ([]byte, error) { return []byte("•••"), nil }

// LogValue hides it from logs.
func (Secret) LogValue() slog.Value { return slog.StringValue("•••") }

// Workspace is the content of a workspace file. Parts with problems are missing.
type Workspace struct {
	File     string // its path, for messages
	Name     string
	Brokers  []*Broker
	Logins   []*Login
	Contract *contract.Contract
	Devices  []*Device
	// Credentials are files and folders to look at, relative to the file's folder.
	Credentials []string
	// TrustFiles are the files of certificates and keys that listeners and logins name,
	// relative to the file's folder.
	TrustFiles []string
	Problems   []*Problem

	text     []byte
	print    string            // of the text and the files that it names
	named    []string          // the files that were read, sorted
	sections map[string]string // a print of what defines a part, such as "device pen" or "contract"
}

// Same tells whether a part is defined alike in two workspaces: "contract", "device NAME", "broker NAME" or "login
// NAME". A change in a file that a part names counts for the contract's schemas and for all that uses certificates.
func Same(a, b *Workspace, part string) bool {
	x, ok := a.sections[part]
	y, also := b.sections[part]
	return ok == also && x == y
}

// Broker is an MQTT server to be reached, or a stand-in to be started.
type Broker struct {
	Name      string
	StandIn   *StandIn // nil for a real one
	Listeners []Listener
	Login     string
	Anonymous *bool // nil: not said
	Version   packet.Version
	Intrusive bool
	// ClientID is the pattern of Hodstone's own client identifiers there, {n} for a number: for brokers
	// that have a rule. "" where there is none.
	ClientID string
	// Accepted are doors that stay open on purpose, with the reason; see [DoorAnonymous].
	Accepted map[string]string
}

// OwnID makes up a client identifier for a client of Hodstone's own at the broker.
func (b *Broker) OwnID() string {
	if b.ClientID == "" {
		return client.NewID()
	}
	return strings.ReplaceAll(b.ClientID, "{n}", fmt.Sprint(rand.IntN(900_000)+100_000))
}

// The doors that can be left open at a broker, and accepted with a reason: the keys of the
// shape "accepted".
const (
	DoorAnonymous    = "anonymous"
	DoorPlain        = "plain"
	DoorUnrestricted = "everything"
)

// Listener is one way into a broker.
type Listener struct {
	Name, URL  string
	CA         []*x509.Certificate // nil: the system's roots
	ServerName string
	Line       int // where it stands in the file; 0 for one that is there without being written
}

// StandIn says how a stand-in is started.
type StandIn struct {
	Listeners []Listener // URL holds the address to listen on
	Logins    []string
	Rights    []Rights
	Anonymous bool
	Limits    standin.Limits
	// Certificate is "", or what is wrong with that of the TLS listeners on purpose:
	// "expired", "wrong-name" or "incomplete".
	Certificate string
	// OwnTLS is the certificate of the TLS listeners in place of one that is made; nil for none.
	OwnTLS *OwnTLS
	Faults []string
}

// OwnTLS is a certificate of the user's own for a stand-in.
type OwnTLS struct {
	Certificate tls.Certificate
	// CAs are those that clients trust, and that sign the certificates of clients.
	CAs []*x509.Certificate
}

// Rights are what some logins of a stand-in may do.
type Rights struct {
	Logins             string   // a login's name, with * for any characters
	Publish, Subscribe []string // topic filters, {login} not yet filled in; nil: everything
}

// RightsOf returns the first rights that are for the login, or rights to everything.
func (s *StandIn) RightsOf(login string) Rights {
	for _, r := range s.Rights {
		if ok, _ := path.Match(r.Logins, login); ok {
			return r
		}
	}
	return Rights{Logins: login}
}

// Login is a client identity.
type Login struct {
	Name     string
	Username string
	Password Secret
	// Certificate is the client's, for TLS; nil for none.
	Certificate *tls.Certificate
	// HasPassword is false where the file gives none: a stand-in then makes one up.
	HasPassword bool
	// Token is sent as the password.
	Token    Secret
	HasToken bool
	// SCRAM authenticates by SCRAM-SHA-256 in version 5 instead of sending the password.
	SCRAM bool
}

// Apply puts the login's credentials into a client's options, whose version is set. A login
// that has only a certificate sends neither user name nor password; nil takes them out.
func (l *Login) Apply(o *client.Options) {
	c := &o.Connect
	c.HasUsername, c.Username, c.HasPassword, c.Password, o.Auth = false, "", false, nil, nil
	switch {
	case l == nil, l.Certificate != nil && !l.HasPassword && !l.HasToken:
		return
	case l.SCRAM && o.Version == packet.V5:
		o.Auth, _ = auth.NewSCRAM(l.Username, l.Password.Reveal()) // was tried when the login was read
		return
	}
	c.HasUsername, c.Username = true, l.Username
	c.HasPassword, c.Password = true, []byte(l.Password.Reveal())
	if l.HasToken {
		c.Password = []byte(l.Token.Reveal())
	}
}

// Device is a simulated client, or Count of one kind.
type Device struct {
	Name       string
	Count      int // 0: just one, without a number
	Plays      string
	Parameters map[string]string // {n} not yet filled in
	Broker     string
	Listener   string // "" for the first
	Login      string // {n} not yet filled in; "" for none
	Session    Session
	Presence   string // a clause, or ""
	Signals    []Signal
	Publishes  []Publication
	Reactions  []Reaction
	Note       string
}

// Session is how a device connects.
type Session struct {
	Version    packet.Version
	ClientID   string // {n} not yet filled in
	CleanStart bool
	KeepAlive  time.Duration
}

// Signal is a value inside a device.
type Signal struct {
	Name                               string
	Wave                               string // "constant", "sine", "ramp", "walk", "counter"
	Start                              any
	Mean, Swing, Noise, From, To, Step float64
	Period, Every                      time.Duration
	Minimum, Maximum                   *float64
	Unit                               string
}

// Publication is a message that a device publishes.
type Publication struct {
	Clause      string // "" where Topic is set
	Topic       string
	Every       time.Duration
	WhenChanged string // a signal, or ""
	By          float64
	Where       *expression.Template // nil: always
	Parameters  map[string]*expression.Template
	Payload     *expression.Template // nil: empty
	QoS         packet.QoS
	Retain      bool
}

// Reaction is what a device does when a message arrives.
type Reaction struct {
	When     string
	Where    *expression.Template // nil: always
	Set      map[string]*expression.Template
	AfterMin time.Duration
	AfterMax time.Duration
	Publish  []string
}

// Open reads the workspace file. The error is for a file that cannot be read at all; what
// is wrong within it is in Problems.
func Open(file string) (*Workspace, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, fmt.Errorf(
			"cannot open the workspace: %w: 'hodstone demo' opens an example, 'hodstone demo --write DIR' writes it out",
			err,
		)
	}
	if info.IsDir() {
		file = filepath.Join(file, "hodstone.yaml")
	}
	return Read(os.DirFS(filepath.Dir(file)), filepath.Base(file), file)
}

// Read reads the workspace from a file system; shown is its path for messages.
func Read(fsys fs.FS, name, shown string) (*Workspace, error) {
	src, err := fs.ReadFile(fsys, name)
	if err != nil {
		return nil, fmt.Errorf("cannot read the workspace: %w", err)
	}
	if len(src) > maxFileSize {
		return nil, fmt.Errorf("%s has %d bytes; a workspace has at most %d", shown, len(src), maxFileSize)
	}
	w := &Workspace{
		File:     shown,
		Contract: &contract.Contract{Parameters: map[string]contract.Parameter{}},
		text:     src,
		sections: map[string]string{},
	}
	r, root, ok := parse(shown, src)
	if ok {
		files := reading{fsys, map[string]string{}}
		l := loader{w: w, fsys: files, files: files.seen}
		l.load(root)
		w.named = slices.Sorted(maps.Keys(files.seen))
	}
	w.Problems = r.problems
	w.print = w.printOf(src)
	return w, nil
}

// Broker returns the broker with the name, the first for "", or nil.
func (w *Workspace) Broker(name string) *Broker {
	for _, b := range w.Brokers {
		if b.Name == name || name == "" {
			return b
		}
	}
	return nil
}

// Login returns the login with the name, or nil.
func (w *Workspace) Login(name string) *Login {
	for _, l := range w.Logins {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Ways returns the broker's listeners, be it a stand-in or a real one.
func (b *Broker) Ways() []Listener {
	if b.StandIn != nil {
		return b.StandIn.Listeners
	}
	return b.Listeners
}

// Warnings tell what is sound and will not work: clauses that ask more of a stand-in than its limits allow.
func (w *Workspace) Warnings() (out []string) {
	for _, b := range w.Brokers {
		if b.StandIn == nil {
			continue
		}
		l := &b.StandIn.Limits
		for _, cl := range w.Contract.Clauses {
			ask := func(format string, args ...any) {
				out = append(
					out,
					fmt.Sprintf(
						"%s:%d: clause %s asks for %s; the stand-in %s allows %s",
						w.File,
						cl.Line,
						cl.Name,
						fmt.Sprintf(format, args[0]),
						b.Name,
						args[1],
					),
				)
			}
			if l.MaximumQoS != nil && cl.QoS != nil && *cl.QoS > *l.MaximumQoS {
				ask("QoS %d", *cl.QoS, fmt.Sprintf("QoS %d at most (maximum-qos)", *l.MaximumQoS))
			}
			if l.NoRetained && cl.Retain != nil && *cl.Retain {
				ask("%s", "retained messages", "none (retain-available: false)")
			}
			if n := l.MaximumPacketSize; n > 0 && len(cl.Topic.String()) > n {
				ask(
					"a topic of %d bytes",
					len(cl.Topic.String()),
					fmt.Sprintf("packets of %d (maximum-packet-size)", n),
				)
			}
		}
	}
	return out
}

// literals turns numbers of a template's literals into float64, as expressions have them.
func literals(v any) any {
	switch v := v.(type) {
	case json.Number:
		if i, err := v.Int64(); err == nil {
			return int(i)
		}
		f, _ := v.Float64()
		return f
	case []any:
		for i := range v {
			v[i] = literals(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = literals(v[k])
		}
	}
	return v
}
