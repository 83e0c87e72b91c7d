package workbench

import (
	"crypto/sha256"
	"fmt"
	"slices"

	"hodstone/internal/infile"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/reach"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// findTargets makes the ways in of a workspace's brokers.
func (b *Bench) findTargets(w *workspace.Workspace) []reach.Target {
	out := []reach.Target{}
	for _, br := range w.Brokers {
		ways := br.Ways()
		for i, l := range ways {
			t := reach.Target{
				Name:       br.Name + "/" + l.Name,
				URL:        l.URL,
				CAs:        l.CA,
				ServerName: l.ServerName,
				Login:      w.Login(br.Login),
				Anonymous:  br.Anonymous,
				Versions:   versionsOf(w, br),
				Intrusive:  br.Intrusive,
				Accepted:   br.Accepted,
				StandIn:    br.StandIn != nil,
				Line:       l.Line,
			}
			if br.ClientID != "" {
				t.ClientID = br.OwnID()
			}
			if br.StandIn != nil {
				if b.brokers.standins[br.Name] == nil {
					t.Prior = "this stand-in is new in the file: it starts when the workspace is opened again"
				}
				t.URL = b.brokers.urls.get(br.Name, l.Name)
				if running, _, err := b.address(br.Name, l.Name); err == nil {
					t.CAs = running.CA
				}
				t.Login = b.Workspace().Login(br.Login) // with the password that was made up
			}
			t.Users = users(w, br, l.Name, i == 0)
			t.Logins = b.loginsAt(br, l.Name, i == 0, i == mostSecure(ways))
			out = append(out, t)
		}
	}
	return out
}

// mostSecure is the listener over which logins are tried: the first with TLS, else the first.
func mostSecure(ways []workspace.Listener) int {
	for i, l := range ways {
		if e, err := link.Parse(l.URL); err == nil && e.TLS {
			return i
		}
	}
	return 0
}

// versionsOf lists the protocol versions that the workspace uses at a broker: the observer's
// first, then those of the devices.
func versionsOf(w *workspace.Workspace, br *workspace.Broker) []packet.Version {
	out := []packet.Version{br.Version}
	if br.Version == 0 {
		out[0] = packet.V5
	}
	for _, d := range w.Devices {
		if at := w.Broker(d.Broker); at == br && d.Session.Version != 0 && !slices.Contains(out, d.Session.Version) {
			out = append(out, d.Session.Version)
		}
	}
	return out
}

// users names the devices that use a listener; first tells that it is the one for those that
// name none.
func users(w *workspace.Workspace, br *workspace.Broker, listener string, first bool) (out []string) {
	for _, d := range w.Devices {
		if w.Broker(d.Broker) != br || d.Listener != listener && !(d.Listener == "" && first) {
			continue
		}
		name := "device " + d.Name
		if d.Count > 0 {
			name = fmt.Sprintf("%d devices %s", d.Count, d.Name)
		}
		if d.Login != "" {
			name += " (login " + d.Login + ")"
		}
		out = append(out, name)
	}
	return out
}

// maxPerKind is how many logins of one kind of device are tried: a thousand pens have the same
// rights.
const maxPerKind = 4

// loginsAt lists the logins whose rights are tried at a listener: some of each kind of device that comes by it, for
// another listener may want what they do not have; and, at one of them, those that no device uses.
func (b *Bench) loginsAt(br *workspace.Broker, listener string, first, rest bool) (out []*workspace.Login) {
	w := b.Workspace()
	out = deviceLogins(w, func(d *workspace.Device) bool {
		at := w.Broker(d.Broker)
		return at != nil && at.Name == br.Name && (d.Listener == listener || d.Listener == "" && first)
	})
	if !rest {
		return out
	}
	used := deviceLogins(w, func(*workspace.Device) bool { return true })
	for _, x := range w.Brokers {
		if l := w.Login(x.Login); l != nil {
			used = append(used, l)
		}
	}
	kinds := map[string]bool{} // those of a kind of device beyond the ones that are tried have the same rights
	for _, d := range w.Devices {
		for n := range max(1, d.Count) {
			kinds[workspace.FillIn(d.Login, n+1)] = true
		}
	}
	for _, l := range w.Logins {
		known := br.StandIn == nil && len(w.Brokers) == 1 ||
			br.StandIn != nil && slices.Contains(br.StandIn.Logins, l.Name)
		if known && !kinds[l.Name] && !slices.Contains(used, l) {
			out = append(out, l)
		}
	}
	return out
}

// deviceLogins lists logins of the devices that fit, some of each kind.
func deviceLogins(w *workspace.Workspace, fits func(*workspace.Device) bool) (out []*workspace.Login) {
	for _, d := range w.Devices {
		if !fits(d) {
			continue
		}
		for n := range min(max(1, d.Count), maxPerKind) {
			if l := w.Login(workspace.FillIn(d.Login, n+1)); l != nil && !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	}
	return out
}

// settingsOf sums up what a result depends on, as a hash, for there are secrets in it.
func settingsOf(t reach.Target) string {
	s := fmt.Sprint(t.URL, t.ServerName, t.Versions, t.Prior, t.Accepted)
	if t.Anonymous != nil {
		s += fmt.Sprint(*t.Anonymous)
	}
	for _, c := range t.CAs {
		s += string(c.Raw)
	}
	if l := t.Login; l != nil {
		s += fmt.Sprint(l.Name, l.Username, l.Password.Reveal(), l.Token.Reveal(), l.SCRAM)
		if l.Certificate != nil {
			s += string(l.Certificate.Certificate[0])
		}
	}
	return fmt.Sprintf("%x", sha256.Sum256([]byte(s)))
}

// PastedName is the name of the way in that was made of pasted details.
const PastedName = "pasted"

// maxCredential is how large a file of certificates or keys may be, in bytes.
const maxCredential = 16 << 20

// PastedTarget makes a way in of connection details, reading the files that they name.
func PastedTarget(d *reach.Details) (reach.Target, error) {
	t := reach.Target{Name: PastedName, URL: d.URL, ServerName: d.ServerName, Login: d.Login(), ClientID: d.ClientID}
	if d.Version != 0 {
		t.Versions = append(t.Versions, d.Version)
	}
	read := func(name string) ([]byte, error) {
		if name == "" {
			return nil, nil
		}
		data, err := infile.Read(name, maxCredential)
		if err != nil {
			return nil, fmt.Errorf("the details name a file that cannot be read: %w", err)
		}
		return data, nil
	}
	ca, err := read(d.CA)
	if err != nil {
		return t, err
	}
	if ca != nil {
		if t.CAs, err = trust.CAs(ca); err != nil {
			return t, fmt.Errorf("%s holds no certificate: %w", d.CA, err)
		}
	}
	chain, err := read(d.Certificate)
	if err != nil || chain == nil {
		return t, err
	}
	key, err := read(d.Key)
	if err != nil {
		return t, err
	}
	pair, err := trust.Pair(chain, key, "")
	if err != nil {
		return t, fmt.Errorf("%s: %w", d.Certificate, err)
	}
	if t.Login == nil {
		t.Login = &workspace.Login{Name: "pasted"}
	}
	t.Login.Certificate = &pair
	return t, nil
}
