package workbench

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/reach"
	"hodstone/internal/trust"
)

// SurveyState is what is known of a listener's TLS.
type SurveyState struct {
	Target  reach.Target
	Running bool
	Doing   string
	Survey  *trust.Survey // nil before the first
}

// trusting is what is known of credentials and handshakes.
type trusting struct {
	mu          sync.Mutex // guards what follows
	passphrases []string   // given by hand, for this run only
	inventory   *trust.Inventory
	reading     bool
	surveys     map[string]*SurveyState
	cancel      context.CancelFunc
}

// credentialPaths are the files and folders that the workspace names for a look, and those
// that its listeners and logins use.
func (b *Bench) credentialPaths() (out []string) {
	if b.opt.Credentials != nil {
		return b.opt.Credentials
	}
	dir := filepath.Dir(b.Workspace().File)
	for _, p := range append(slices.Clone(b.Workspace().Credentials), b.Workspace().TrustFiles...) {
		if !filepath.IsAbs(p) {
			p = filepath.Join(dir, p)
		}
		out = append(out, p)
	}
	return out
}

// Examine reads the workspace's credentials anew, in the background.
func (b *Bench) Examine() {
	b.trust.mu.Lock()
	defer b.trust.mu.Unlock()
	paths := b.credentialPaths()
	if len(paths) == 0 || b.trust.reading {
		return
	}
	b.trust.reading = true
	passphrases := slices.Clone(b.trust.passphrases)
	b.wg.Go(func() {
		v := trust.Examine(trust.ReadPaths(paths, passphrases), trust.Options{})
		b.trust.mu.Lock()
		defer b.trust.mu.Unlock()
		b.trust.inventory, b.trust.reading = v, false
	})
}

// Unlock tries a passphrase on what is encrypted. It is kept in memory for this run only, and
// only where it opened something; the number says how many items it opened.
func (b *Bench) Unlock(passphrase string) int {
	b.trust.mu.Lock()
	before, passphrases := locked(b.trust.inventory), append(slices.Clone(b.trust.passphrases), passphrase)
	b.trust.mu.Unlock()
	v := trust.Examine(
		trust.ReadPaths(b.credentialPaths(), passphrases),
		trust.Options{},
	) // passphrases are slow to try
	opened := before - locked(v)
	if opened <= 0 {
		return 0
	}
	b.trust.mu.Lock()
	defer b.trust.mu.Unlock()
	b.trust.passphrases, b.trust.inventory = passphrases, v
	return opened
}

func locked(v *trust.Inventory) (n int) {
	if v != nil {
		for _, f := range v.Files {
			n += f.LockedItems()
		}
	}
	return n
}

// Credentials returns what the workspace's credentials amount to, nil while nothing is known,
// and where they lie.
func (b *Bench) Credentials() (v *trust.Inventory, paths []string) {
	b.trust.mu.Lock()
	defer b.trust.mu.Unlock()
	return b.trust.inventory, b.credentialPaths()
}

// SurveyTargets returns the ways in that have TLS.
func (b *Bench) SurveyTargets() (out []reach.Target) {
	for _, t := range b.Targets() {
		if e, err := link.Parse(t.URL); err == nil && e.TLS {
			out = append(out, t)
		}
	}
	return out
}

// StartSurvey tries the TLS of a way in, in the background, and what a device would meet there;
// one at a time.
func (b *Bench) StartSurvey(t reach.Target, device trust.Device) error {
	o, err := SurveyOptions(t, b.probed)
	if err != nil {
		return err
	}
	o.Device = device
	if b.brokers.standins[t.Broker()] != nil { // its authority can make what is needed
		if err := b.standInCertificates(&o); err != nil {
			return err
		}
	} else if v, _ := b.Credentials(); v != nil {
		found := v.ClientPairs()
		o.Expired, o.Revoked, o.Revocations = found.Expired, found.Revoked, v.Revocations()
	}
	b.trust.mu.Lock()
	defer b.trust.mu.Unlock()
	if b.trust.cancel != nil {
		return errors.New("a handshake is being tried: wait, or stop it first")
	}
	ctx, cancel := context.WithCancel(b.ctx)
	b.trust.cancel = cancel
	s := &SurveyState{Target: t, Running: true}
	b.trust.surveys[t.Name] = s
	o.Progress = func(doing string) {
		b.trust.mu.Lock()
		defer b.trust.mu.Unlock()
		s.Doing = doing
	}
	b.wg.Go(func() {
		found := trust.Look(ctx, o)
		cancel()
		b.trust.mu.Lock()
		defer b.trust.mu.Unlock()
		s.Running, s.Doing, s.Survey, b.trust.cancel = false, "", found, nil
	})
	return nil
}

// standInCertificates makes client certificates of a stand-in's own CA, one of them expired.
func (b *Bench) standInCertificates(o *trust.SurveyOptions) error {
	a, err := b.Authority()
	if err != nil {
		return err
	}
	expired, err := a.Issue(trust.Request{CommonName: "bench", Expired: true})
	if err != nil {
		return err
	}
	o.Expired = &expired
	if o.Ours == nil {
		ours, err := a.Issue(trust.Request{CommonName: "bench"})
		if err != nil {
			return err
		}
		o.Ours = &ours
	}
	return nil
}

// StopSurvey ends the survey under way.
func (b *Bench) StopSurvey() {
	b.trust.mu.Lock()
	defer b.trust.mu.Unlock()
	if b.trust.cancel != nil {
		b.trust.cancel()
	}
}

// Survey returns what is known of a way's TLS.
func (b *Bench) Survey(name string) SurveyState {
	b.trust.mu.Lock()
	defer b.trust.mu.Unlock()
	if s := b.trust.surveys[name]; s != nil {
		return *s
	}
	return SurveyState{}
}

// SurveyOptions returns how a way's TLS is looked at. opened is told the local address of each connection; may be nil.
func SurveyOptions(t reach.Target, opened func(local net.Addr)) (trust.SurveyOptions, error) {
	e, err := link.Parse(t.URL)
	switch {
	case err != nil:
		return trust.SurveyOptions{}, err
	case !e.TLS:
		return trust.SurveyOptions{}, fmt.Errorf(
			"%s has no TLS to be tried: its URL begins with mqtts:// or wss:// where it has",
			t.URL,
		)
	}
	o := trust.SurveyOptions{
		Host:       e.Host,
		ServerName: t.ServerName,
		CAs:        t.CAs,
		Greeting:   reach.Greeting(e),
		Dial: func(ctx context.Context) (net.Conn, error) {
			ctx, cancel := context.WithTimeout(ctx, reach.DefaultWait)
			defer cancel()
			return link.Socket(ctx, e.Network, e.Address, opened)
		},
	}
	if t.Login != nil {
		o.Ours = t.Login.Certificate
	}
	return o, nil
}

// exportEndings are the formats of a CA by the ending of the file's name.
var exportEndings = map[string]string{
	".pem": "pem",
	".crt": "pem",
	".der": "der",
	".h":   "c",
	".c":   "c",
	".hpp": "cpp",
	".cpp": "cpp",
	".go":  "go",
	".rs":  "rust",
}

// ExportCA writes CAs into a file, in the form that its name's ending asks for. It overwrites
// nothing. fetched marks what only the server itself vouches for.
func (b *Bench) ExportCA(name string, cas []*x509.Certificate, fetched bool) error {
	format, known := exportEndings[strings.ToLower(filepath.Ext(name))]
	if !known {
		return fmt.Errorf("%s: a CA is written as .pem, .der, .h (C), .hpp (C++), .go or .rs (Rust)", name)
	}
	data, err := trust.ExportCA(format, cas, fetched)
	if err != nil {
		return err
	}
	return create(name, func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
}
