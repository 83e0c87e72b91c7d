package report

import (
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"hodstone/internal/plain"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// File is one that is to be written.
type File struct {
	Data []byte
	Mode fs.FileMode // 0600 for what holds a secret
}

// The ports of a broker's listeners where the workspace leaves them open (IANA; those of WebSockets are customary).
var ports = map[string]string{"mqtt": "1883", "mqtts": "8883", "ws": "8083", "wss": "8084"}

// BrokerFiles writes the broker's side of a workspace for the broker of Debian's packages: its configuration with
// listeners and TLS, a file of passwords, hashed, and one of rights, in which each login may do what the contract needs
// and no more. dir is the folder in which they will stand. Passwords that were made up stand in files of their own.
// The notes tell what is left to do.
func BrokerFiles(w *workspace.Workspace, b *workspace.Broker, dir string) (files map[string]File, notes []string, err error) {
	files = map[string]File{}
	access, parties := w.Access()
	var passwords, rights strings.Builder
	known := map[string]bool{}
	for _, l := range logins(w, b) {
		if strings.ContainsAny(l.Username, ":\n\r") || l.Username == "" {
			return nil, nil, fmt.Errorf("the user name %q of login %s cannot stand in a file of passwords", l.Username, l.Name)
		}
		if known[l.Username] {
			return nil, nil, fmt.Errorf("two logins have the user name %q", l.Username)
		}
		known[l.Username] = true
		fmt.Fprintf(&rights, "\nuser %s\n", l.Username)
		i := slices.IndexFunc(access, func(a workspace.Access) bool { return a.Login == l.Name })
		switch {
		case l.Name == b.Login:
			rights.WriteString("topic readwrite #\ntopic read $SYS/#\n")
		case i < 0:
			rights.WriteString("# no party of the contract: it may do nothing\n")
			notes = append(notes, fmt.Sprintf("login %s speaks for no party: it gets in and may do nothing", l.Name))
		}
		if i >= 0 && l.Name != b.Login {
			for _, f := range access[i].Publish {
				fmt.Fprintf(&rights, "topic write %s\n", f)
			}
			for _, f := range access[i].Subscribe {
				fmt.Fprintf(&rights, "topic read %s\n", f)
			}
		}
		if l.Certificate != nil && !l.HasPassword && !l.HasToken {
			notes = append(notes, fmt.Sprintf("login %s comes by its certificate: its common name has to be %s", l.Name, l.Username))
			continue
		}
		password := l.Password.Reveal()
		switch {
		case l.HasToken:
			password = l.Token.Reveal()
		case !l.HasPassword:
			password = secret()
			files["passwords/"+l.Name] = File{[]byte(password + "\n"), 0o600}
			notes = append(notes, fmt.Sprintf("the password of %s was made up: password: {file: %s}", l.Name, "passwords/"+l.Name))
		}
		fmt.Fprintf(&passwords, "%s:%s\n", l.Username, hashed(password))
	}
	for _, p := range parties {
		notes = append(notes, fmt.Sprintf("party %s has no login: give it logins: […] in the contract, or a device", p))
	}
	config, err := brokerConfig(w, b, dir, files)
	if err != nil {
		return nil, nil, err
	}
	notes = append(notes, "the user that the broker runs as must be able to read these files: chown them to it")
	files["broker.conf"] = File{[]byte(config), 0o644}
	files["broker.passwords"] = File{[]byte(passwords.String()), 0o600}
	files["broker.rights"] = File{[]byte("# What each login may do by the contract, and no more.\n" + rights.String()), 0o600}
	return files, notes, nil
}

// logins are those that a broker knows: a stand-in's, or all.
func logins(w *workspace.Workspace, b *workspace.Broker) (out []*workspace.Login) {
	for _, l := range w.Logins {
		if b.StandIn == nil || slices.Contains(b.StandIn.Logins, l.Name) {
			out = append(out, l)
		}
	}
	return out
}

func secret() string {
	var raw [18]byte
	rand.Read(raw[:])
	return base64.RawURLEncoding.EncodeToString(raw[:])
}

// iterations of PBKDF2 for passwords.
const iterations = 101

// hashed is a password as the broker's file has it: PBKDF2 with SHA-512 (RFC 8018), salt and key in base 64.
func hashed(password string) string {
	var salt [12]byte
	rand.Read(salt[:])
	key, err := pbkdf2.Key(sha512.New, password, salt[:], iterations, sha512.Size)
	if err != nil {
		return "" // an empty hash lets nobody in
	}
	e := base64.StdEncoding
	return fmt.Sprintf("$7$%d$%s$%s", iterations, e.EncodeToString(salt[:]), e.EncodeToString(key))
}

// brokerConfig writes the configuration, and adds the certificates that it needs to the files.
func brokerConfig(w *workspace.Workspace, b *workspace.Broker, dir string, files map[string]File) (string, error) {
	var c strings.Builder
	name := w.Name
	if name == "" {
		name = "the workspace"
	}
	fmt.Fprintf(&c, "# Broker %s of %s. Made by hodstone contract export.\n", plain.OneLine(b.Name), plain.OneLine(name))
	fmt.Fprintf(&c, "per_listener_settings false\nallow_anonymous %v\npassword_file %s/broker.passwords\nacl_file %s/broker.rights\n",
		b.StandIn != nil && b.StandIn.Anonymous || b.Anonymous != nil && *b.Anonymous, dir, dir)
	if b.StandIn != nil {
		if q := b.StandIn.Limits.MaximumQoS; q != nil {
			fmt.Fprintf(&c, "max_qos %d\n", *q)
		}
		if b.StandIn.Limits.NoRetained {
			c.WriteString("retain_available false\n")
		}
		if n := b.StandIn.Limits.MaximumPacketSize; n > 0 {
			fmt.Fprintf(&c, "max_packet_size %d\n", n)
		}
	}
	hosts := map[string]bool{"localhost": true, "127.0.0.1": true}
	secure := false
	for _, l := range b.Ways() {
		u, err := url.Parse(l.URL)
		if err != nil || u.Host == "" {
			return "", fmt.Errorf("listener %s of broker %s: %q is no address", l.Name, b.Name, l.URL)
		}
		host, port := u.Hostname(), u.Port()
		if port == "" || port == "0" {
			port = ports[u.Scheme]
		}
		bind := ""
		if ip := net.ParseIP(host); ip != nil && !ip.IsUnspecified() && b.StandIn != nil {
			bind = " " + host
		}
		if host != "" {
			hosts[host] = true
		}
		if l.ServerName != "" {
			hosts[l.ServerName] = true
		}
		fmt.Fprintf(&c, "\n# %s\nlistener %s%s\n", plain.OneLine(l.Name), port, bind)
		if u.Scheme == "ws" || u.Scheme == "wss" {
			c.WriteString("protocol websockets\n")
		}
		if u.Scheme == "mqtts" || u.Scheme == "wss" {
			secure = true
			fmt.Fprintf(&c, "cafile %s/ca.crt\ncertfile %s/server.crt\nkeyfile %s/server.key\n", dir, dir, dir)
		}
	}
	if !secure {
		return c.String(), nil
	}
	a, err := trust.NewLongAuthority(name)
	if err != nil {
		return "", err
	}
	var names []string
	for h := range hosts {
		names = append(names, h)
	}
	slices.Sort(names)
	pair, err := a.Issue(trust.Request{CommonName: b.Name, Names: names, Until: time.Now().AddDate(1, 0, 0)})
	if err != nil {
		return "", err
	}
	chain, key, err := trust.PEM(pair)
	if err != nil {
		return "", err
	}
	files["ca.crt"] = File{a.RootPEM(), 0o644}
	files["server.crt"] = File{chain, 0o644}
	files["server.key"] = File{key, 0o600}
	return c.String(), nil
}
