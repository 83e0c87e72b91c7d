package reach

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

// maxPaste is how much text of connection details is read: people paste a page, not a book.
const maxPaste = 64 << 10

// Details are connection details as people are given them, understood.
type Details struct {
	URL      string
	Username string
	Password workspace.Secret
	// HasPassword tells an empty password from none.
	HasPassword bool
	ClientID    string
	Version     packet.Version // 0 for not said
	ServerName  string
	// CA, Certificate and Key are paths, where the details name some.
	CA, Certificate, Key string
	// Unused are the names of what was not understood; their values are not kept.
	Unused []string
}

// Login returns the login of the details, or nil.
func (d *Details) Login() *workspace.Login {
	if d.Username == "" && !d.HasPassword {
		return nil
	}
	return &workspace.Login{Name: d.Username, Username: d.Username, Password: d.Password, HasPassword: d.HasPassword}
}

// detailKeys are the names that people give to details, without case, spaces and marks; the
// first that fits counts.
var detailKeys = []struct {
	field string
	match *regexp.Regexp
}{
	{"url", regexp.MustCompile(`(url|uri|connectionstring)$`)},
	{"servername", regexp.MustCompile(`(servername|sni|certificatename)$`)},
	{"clientid", regexp.MustCompile(`(clientid|clientidentifier|deviceid|clientname)$`)},
	{
		"username",
		regexp.MustCompile(
			`(username|user|login|accountname|userid|benutzername|benutzer|usuario|utilisateur|gebruikersnaam)$`,
		),
	},
	{
		"password",
		regexp.MustCompile(
			`(password|passwd|pass|pwd|secret|token|accesskey|kennwort|passwort|contrasea|motdepasse|wachtwoord)$`,
		),
	},
	{"scheme", regexp.MustCompile(`(scheme|transport|protocol)$`)},
	{"tlsport", regexp.MustCompile(`((tls|ssl|secure|mqtts)port|port(tls|ssl|secure|mqtts))$`)},
	{"wsport", regexp.MustCompile(`((ws|websocket|websockets|wss)port|port(ws|websocket|wss))$`)},
	{"port", regexp.MustCompile(`(port|portnumber|mqttport|tcpport|puerto|poort)$`)},
	{"cafile", regexp.MustCompile(`(cafile|cacert|cacertificate|rootca|ca|cacrt|capath|trustedca)$`)},
	{"certfile", regexp.MustCompile(`(clientcert|clientcertificate|certfile|cert|certificate|crt|certpath)$`)},
	{"keyfile", regexp.MustCompile(`(clientkey|keyfile|privatekey|key|keypath)$`)},
	{"tls", regexp.MustCompile(`(tls|ssl|usetls|usessl|secure|encryption|encrypted)$`)},
	{"version", regexp.MustCompile(`(mqttversion|protocolversion|version)$`)},
	{"path", regexp.MustCompile(`(wspath|websocketpath|path)$`)},
	{
		"host",
		regexp.MustCompile(
			`(host|hostname|server|broker|endpoint|address|brokeraddress|serveraddress|ip|ipaddress|fqdn|adresse|servidor|serveur|hte)$`,
		),
	},
}

// schemes are what URLs of brokers begin with elsewhere, and what they are here.
var schemes = map[string]string{
	"mqtt":       "mqtt",
	"tcp":        "mqtt",
	"mqtts":      "mqtts",
	"ssl":        "mqtts",
	"tls":        "mqtts",
	"mqtt+ssl":   "mqtts",
	"mqtt+tls":   "mqtts",
	"ws":         "ws",
	"wss":        "wss",
	"http":       "ws",
	"https":      "wss",
	"websocket":  "ws",
	"websockets": "ws",
}

// fieldOf returns the detail that a name stands for, "" for none.
func fieldOf(name string) string {
	plain := notWord.ReplaceAllString(strings.ToLower(name), "")
	for _, k := range detailKeys {
		if k.match.MatchString(plain) {
			return k.field
		}
	}
	return ""
}

// Paste reads connection details as people get them: a URL, lines with names and values, an
// environment file, a table, constants of firmware, the arguments of a call, JSON, or sentences.
func Paste(text string) (*Details, error) {
	if len(text) > maxPaste {
		return nil, fmt.Errorf(
			"%d bytes are more than connection details have: give only the part with host, port and login",
			len(text),
		)
	}
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text) // terminals paste lines with CR
	d := &Details{}
	fields := map[string]string{}
	set := func(name, value string) {
		value = unquote(value)
		if field := fieldOf(name); field != "" {
			if _, before := fields[field]; !before && value != "" {
				fields[field] = value
			}
			return
		}
		if name = strings.TrimSpace(name); strings.ContainsAny(name, "0123456789") {
			name = "others" // what stands before a colon may be anything, a password too
		}
		if !slices.Contains(d.Unused, name) {
			d.Unused = append(d.Unused, name)
		}
	}
	var tree any
	if json.Unmarshal([]byte(text), &tree) == nil {
		flatten(tree, "", set)
	} else {
		readLines(text, set)
		if fields["host"] == "" && fields["url"] == "" {
			readProse(text, set)
		}
	}
	if m := bareSocket.FindStringSubmatch(text); m != nil && fields["scheme"] == "" && fields["url"] == "" {
		if fields["scheme"] = "ws"; strings.EqualFold(m[1], "wss") {
			fields["scheme"] = "wss"
		}
	}
	return d, d.fill(fields)
}

// bareSocket finds the transport where it is only mentioned: "host 10.0.0.7, port 9001, websocket".
var bareSocket = regexp.MustCompile(`(?i)(?:^|[\s,;(])(web-?sockets?|wss?)(?:[\s,;.)]|$)`)

// flatten walks through JSON.
func flatten(v any, name string, set func(name, value string)) {
	switch v := v.(type) {
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(v)) {
			flatten(v[k], k, set)
		}
	case []any:
		for _, x := range v {
			flatten(x, name, set)
		}
	case string:
		set(name, v)
	case float64:
		set(name, strconv.FormatFloat(v, 'f', -1, 64))
	case bool:
		set(name, strconv.FormatBool(v))
	}
}

func unquote(s string) string {
	s = strings.TrimRight(strings.TrimSpace(s), ",;")
	if len(s) >= 2 && (s[0] == '"' || s[0] == '\'' || s[0] == '`') && s[len(s)-1] == s[0] {
		s = s[1 : len(s)-1]
	}
	return strings.TrimSpace(s)
}

func yes(s string) bool {
	switch strings.ToLower(s) {
	case "", "no", "false", "0", "off", "none", "disabled":
		return false
	}
	return true
}

// fill makes details of the fields.
func (d *Details) fill(f map[string]string) error {
	scheme, host, port, path := "", "", "", f["path"]
	if raw := f["url"]; raw != "" {
		if m := anyURL.FindString(raw); m != "" {
			raw = m
		}
		u, err := url.Parse(raw)
		switch {
		case err != nil:
			return errors.New("the URL in it cannot be read: are special characters in the password written as %XX?")
		case schemes[strings.ToLower(u.Scheme)] == "":
			host = raw // a host that calls itself URL
		default:
			scheme, host, port = schemes[strings.ToLower(u.Scheme)], u.Hostname(), u.Port()
			if path == "" {
				path = u.Path
			}
			if u.User != nil {
				d.Username = u.User.Username()
				if p, has := u.User.Password(); has {
					d.Password, d.HasPassword = workspace.NewSecret(p), true
				}
			}
			if id := u.Query().Get("clientId"); id != "" {
				d.ClientID = id
			}
		}
	}
	if host == "" {
		host = f["host"]
		if u, err := url.Parse(host); err == nil && schemes[strings.ToLower(u.Scheme)] != "" && u.Host != "" {
			scheme, host, port = schemes[strings.ToLower(u.Scheme)], u.Hostname(), u.Port()
		}
	}
	if hostPort.MatchString(host) && net.ParseIP(host) == nil {
		if h, p, err := net.SplitHostPort(host); err == nil {
			host, port = h, p
		}
	}
	if host == "" {
		return errors.New("no host is named in it: write mqtt://HOST:PORT, or lines such as 'host: …' and 'port: …'")
	}
	d.scheme(f, &scheme, &port)
	if port == "" && f["port"] != "" {
		number, words, _ := strings.Cut(f["port"], " ") // "8883 (TLS)"
		port = number
		if w := strings.ToLower(words); scheme == "" && (strings.Contains(w, "tls") || strings.Contains(w, "ssl")) {
			scheme = "mqtts"
		}
	}
	if port != "" {
		if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
			return fmt.Errorf("%q is no port: it goes from 1 to 65535", clip(port))
		}
	}
	if scheme == "" {
		scheme = map[string]string{"8883": "mqtts", "443": "wss", "8083": "ws", "8084": "wss", "9001": "ws",
			"80": "ws"}[port]
	}
	if scheme == "" {
		scheme = "mqtt"
	}
	if strings.HasPrefix(scheme, "ws") && path == "" {
		path = "/mqtt"
	}
	if !strings.HasPrefix(scheme, "ws") {
		path = ""
	}
	at := host
	if strings.Contains(host, ":") {
		at = "[" + strings.Trim(host, "[]") + "]"
	}
	if port != "" {
		at += ":" + port
	}
	d.URL = scheme + "://" + at + path
	if v, has := f["username"]; has {
		d.Username = v
	}
	if v, has := f["password"]; has {
		d.Password, d.HasPassword = workspace.NewSecret(v), true
	}
	if v, has := f["clientid"]; has {
		d.ClientID = v
	}
	d.ServerName, d.CA, d.Certificate, d.Key = f["servername"], f["cafile"], f["certfile"], f["keyfile"]
	if v, err := packet.ParseVersion(strings.TrimPrefix(strings.ToLower(f["version"]), "v")); err == nil {
		d.Version = v
	}
	_, err := link.Parse(d.URL)
	return err
}

// scheme finds the transport in fields beside the URL.
func (d *Details) scheme(f map[string]string, scheme, port *string) {
	if s := schemes[strings.ToLower(strings.TrimSuffix(f["scheme"], "://"))]; s != "" && *scheme == "" {
		*scheme = s
	}
	tls, said := f["tls"]
	switch {
	case said && yes(tls) && *scheme == "ws":
		*scheme = "wss"
	case said && yes(tls) && (*scheme == "" || *scheme == "mqtt"):
		*scheme = "mqtts"
	}
	if *port == "" && f["tlsport"] != "" && (*scheme == "" || *scheme == "mqtts") && !(said && !yes(tls)) {
		*scheme, *port = "mqtts", f["tlsport"]
	}
	if *port == "" && f["port"] == "" && f["wsport"] != "" && (*scheme == "" || strings.HasPrefix(*scheme, "ws")) {
		*port = f["wsport"]
		if *scheme == "" {
			*scheme = "ws"
		}
	}
}

// YAML writes the broker and login as they go into a workspace. The password stays out of it.
func (d *Details) YAML(name string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "brokers:\n  %s:\n    listeners:\n      main: {url: %q", name, d.URL)
	if d.CA != "" {
		fmt.Fprintf(&b, ", ca: %q", d.CA)
	}
	if d.ServerName != "" {
		fmt.Fprintf(&b, ", server-name: %q", d.ServerName)
	}
	b.WriteString("}\n")
	if d.Version != 0 {
		fmt.Fprintf(&b, "    version: %s\n", d.Version)
	}
	if d.Username == "" && !d.HasPassword && d.Certificate == "" {
		return b.String()
	}
	fmt.Fprintf(&b, "    login: %s\nlogins:\n  %s: {", name, name)
	var parts []string
	if d.Username != "" {
		parts = append(parts, fmt.Sprintf("username: %q", d.Username))
	}
	if d.HasPassword {
		parts = append(
			parts,
			fmt.Sprintf("password: {env: %s_PASSWORD}", strings.ToUpper(strings.ReplaceAll(name, "-", "_"))),
		)
	}
	if d.Certificate != "" {
		parts = append(parts, fmt.Sprintf("certificate: %q", d.Certificate))
	}
	if d.Key != "" {
		parts = append(parts, fmt.Sprintf("key: %q", d.Key))
	}
	b.WriteString(strings.Join(parts, ", ") + "}\n")
	return b.String()
}
