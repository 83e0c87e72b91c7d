package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/plain"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// standInFlags are the options of stand-in.
type standInFlags struct {
	recording
	broker                                        string
	listen, faults                                []string
	username, passwordFile, passwordEnv           string
	anonymous, json                               bool
	caFile, credentials, flaw                     string
	ownCertificate, ownKey, ownCA                 string
	maximumQoS                                    int
	retain, wildcards, identifiers, shared, empty bool
	packetSize, receiveMaximum, connections       int
	memory                                        int
	keepAlive                                     time.Duration
	clientID, serverReference                     string
}

func (e *Env) standIn() *cobra.Command {
	f := &standInFlags{}
	var list strings.Builder
	for _, x := range fault.All() {
		plain.Fprintf(&list, "  %-24s %s\n", x.Name, x.Sentence)
	}
	c := &cobra.Command{
		Use:   "stand-in [WORKSPACE]",
		Short: "Run the small broker that ships inside Hodstone",
		Long: `Run the small broker that ships inside Hodstone until it is interrupted: the stand-in of a
workspace with its listeners, logins, rights and limits, or one made of the options alone. Without
a login anyone who reaches it gets in, so it listens on loopback unless told otherwise.

For TLS it makes a certificate at every start. --credentials writes what clients need into a
folder: the CA, and for each login its password and a client certificate.

It takes commands on standard input, a line each:
  clients                who is there: address, version, login, subscriptions, in flight, rates
  refused                what was not allowed, and why
  throw-out CLIENT-ID    end a client's connection
  quit

The faults:
` + list.String(),
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return e.runStandIn(c, f, args) },
	}
	fl := c.Flags()
	fl.StringVar(&f.broker, "broker", "", "with a workspace: which of its stand-ins; the first by default")
	fl.StringArrayVar(
		&f.listen,
		"listen",
		nil,
		"HOST:PORT, or a URL of mqtt, mqtts, ws, wss or unix; port 0 lets the system choose; may be given several times (default 127.0.0.1:1883)",
	)
	fl.StringArrayVar(&f.faults, "fault", nil, "misbehave in this way; may be given several times")
	fl.StringVar(&f.username, "username", "", "know this login only")
	fl.StringVar(&f.passwordFile, "password-file", "", "the file that holds its password")
	fl.StringVar(&f.passwordEnv, "password-env", "", "the environment variable that holds its password")
	fl.BoolVar(&f.anonymous, "anonymous", false, "let in clients without credentials beside the logins")
	fl.StringVar(&f.caFile, "ca-file", "", "write the CA of the TLS listeners to this file, in PEM")
	fl.StringVar(&f.credentials, "credentials", "", "write the CA and the credentials of all logins into this folder")
	fl.StringVar(
		&f.flaw,
		"certificate",
		"",
		"give the TLS listeners a certificate that is "+strings.Join(workspace.CertificateFlaws, ", or "),
	)
	fl.StringVar(
		&f.ownCertificate,
		"own-certificate",
		"",
		"give the TLS listeners this certificate of your own, in place of one that is made",
	)
	fl.StringVar(&f.ownKey, "own-key", "", "with --own-certificate: the file with its key, where it is another")
	fl.StringVar(
		&f.ownCA,
		"own-ca",
		"",
		"with --own-certificate: the CA that clients trust, and that signs the certificates of clients",
	)
	fl.IntVar(&f.maximumQoS, "maximum-qos", 2, "announce and keep this highest QoS")
	fl.BoolVar(&f.retain, "retain-available", true, "store retained messages")
	fl.BoolVar(&f.wildcards, "wildcard-subscription-available", true, "take filters with + and #")
	fl.BoolVar(&f.identifiers, "subscription-identifiers-available", true, "take subscription identifiers")
	fl.BoolVar(&f.shared, "shared-subscription-available", true, "take $share/NAME/FILTER")
	fl.BoolVar(&f.empty, "empty-client-id", true, "let clients leave their identifier to the stand-in")
	fl.IntVar(&f.packetSize, "maximum-packet-size", 0, "the largest packet taken, in bytes")
	fl.IntVar(&f.receiveMaximum, "receive-maximum", 0, "messages at QoS 1 and 2 that may be unacknowledged towards it")
	fl.IntVar(&f.connections, "connections", 0, "how many clients may be connected at a time")
	fl.IntVar(
		&f.memory,
		"memory",
		0,
		"how many bytes it holds at most of messages, sessions, subscriptions and wills (default 192 MiB)",
	)
	fl.DurationVar(&f.keepAlive, "server-keep-alive", 0, "replace the clients' keep alive in version 5")
	fl.StringVar(&f.clientID, "client-id", "", "a regular expression that the whole client identifier must match")
	fl.StringVar(&f.serverReference, "server-reference", "", "refuse every client and name this server to use instead")
	fl.BoolVar(&f.json, "json", false, "write JSON documents instead of lines, one to a line")
	f.recording.flags(fl)
	return c
}

// limits changes what the flags that were given say.
func (f *standInFlags) limits(l *standin.Limits, given func(string) bool) error {
	if given("maximum-qos") {
		if f.maximumQoS < 0 || f.maximumQoS > 2 {
			return usage("--maximum-qos takes 0, 1 or 2")
		}
		q := packet.QoS(f.maximumQoS)
		l.MaximumQoS = &q
	}
	for name, off := range map[string]*bool{"retain-available": &l.NoRetained,
		"wildcard-subscription-available":    &l.NoWildcards,
		"subscription-identifiers-available": &l.NoIdentifiers, "shared-subscription-available": &l.NoShared,
		"empty-client-id": &l.NoEmptyClientID} {
		if given(name) {
			*off = !map[string]bool{"retain-available": f.retain, "wildcard-subscription-available": f.wildcards,
				"subscription-identifiers-available": f.identifiers,
				"shared-subscription-available":      f.shared, "empty-client-id": f.empty}[name]
		}
	}
	for _, n := range []struct {
		name  string
		value int
		to    *int
		most  int
	}{{"maximum-packet-size", f.packetSize, &l.MaximumPacketSize, 8 << 20},
		{"receive-maximum", f.receiveMaximum, &l.ReceiveMaximum, 65535},
		{"connections", f.connections, &l.Connections, 1 << 20}, {"memory", f.memory, &l.Memory, 1 << 40},
		{"server-keep-alive", int(f.keepAlive / time.Second), &l.ServerKeepAlive, 65535}} {
		if given(n.name) {
			if n.value < 1 || n.value > n.most {
				return usage("--%s must be between 1 and %d", n.name, n.most)
			}
			*n.to = n.value
		}
	}
	if f.clientID != "" {
		re, err := regexp.Compile("^(?:" + f.clientID + ")$")
		if err != nil {
			return usage("--client-id: %w", err)
		}
		l.ClientID = re
	}
	if f.serverReference != "" {
		l.Redirect = f.serverReference
	}
	return nil
}

// definition is the broker to run: the workspace's, or one of the options alone.
func (e *Env) definition(f *standInFlags, args []string) (*workspace.Workspace, error) {
	if len(args) == 0 {
		w := &workspace.Workspace{
			Name:     "stand-in",
			File:     "stand-in",
			Contract: &contract.Contract{},
			Brokers: []*workspace.Broker{
				{Name: "stand-in", StandIn: &workspace.StandIn{Anonymous: f.username == ""}, Version: packet.V5},
			},
		}
		if f.username != "" {
			password, given, err := secret("password", "password", f.passwordFile, f.passwordEnv)
			if err != nil {
				return nil, err
			}
			w.Logins = []*workspace.Login{
				{Name: f.username, Username: f.username, Password: password, HasPassword: given},
			}
			w.Brokers[0].StandIn.Logins = []string{f.username}
		}
		return w, nil
	}
	if f.username != "" {
		return nil, usage("--username is for a stand-in without a workspace; add the login to the workspace")
	}
	w, err := openWorkspace(args[0])
	if err != nil {
		return nil, err
	}
	for _, p := range w.Problems {
		plain.Fprintf(e.ErrOut, "%s\n\n", plain.Lines(p.Error()))
	}
	for _, b := range w.Brokers {
		if b.StandIn != nil && (f.broker == "" || b.Name == f.broker) {
			w.Brokers = []*workspace.Broker{b}
			return w, nil
		}
	}
	return nil, usage("the workspace has no stand-in %s", f.broker)
}

// own reads the certificate of the user's own, if one is given.
func (f *standInFlags) own(before *workspace.OwnTLS) (*workspace.OwnTLS, error) {
	switch {
	case f.ownCertificate+f.ownKey+f.ownCA == "":
		return before, nil
	case f.ownCertificate == "" || f.ownCA == "":
		return nil, usage("--own-certificate and --own-ca go together")
	case f.flaw != "" || f.caFile != "":
		return nil, usage("--own-certificate goes without --certificate and --ca-file: nothing is made")
	}
	cas, err := readCA(f.ownCA)
	if err != nil {
		return nil, err
	}
	pair, err := (&access{certificate: f.ownCertificate, key: f.ownKey}).pair()
	if err != nil {
		return nil, err
	}
	return &workspace.OwnTLS{Certificate: *pair, CAs: cas}, nil
}

func (e *Env) runStandIn(c *cobra.Command, f *standInFlags, args []string) (err error) {
	w, err := e.definition(f, args)
	if err != nil {
		return err
	}
	br := w.Brokers[0]
	si := br.StandIn
	if err := f.limits(&si.Limits, c.Flags().Changed); err != nil {
		return err
	}
	if f.flaw != "" {
		if !strings.Contains(" "+strings.Join(workspace.CertificateFlaws, " ")+" ", " "+f.flaw+" ") {
			return usage("--certificate takes %s, not %q", strings.Join(workspace.CertificateFlaws, ", "), f.flaw)
		}
		si.Certificate = f.flaw
	}
	if si.OwnTLS, err = f.own(si.OwnTLS); err != nil {
		return err
	}
	si.Anonymous = si.Anonymous || f.anonymous
	if len(args) == 0 && len(f.listen) == 0 {
		f.listen = []string{"127.0.0.1:1883"}
	}
	if len(f.listen) > 0 {
		si.Listeners = nil
	}
	for i, where := range f.listen {
		if !strings.Contains(where, "://") {
			where = "mqtt://" + where
		}
		if _, err := link.Parse(where); err != nil {
			return &exit{exitUsage, err}
		}
		si.Listeners = append(si.Listeners, workspace.Listener{Name: fmt.Sprint(i), URL: where})
	}
	log := trace.NewLog(commandTrace)
	seen := &announcer{e: e, json: f.json}
	b, err := workbench.New(w, workbench.Options{Faults: f.faults, Peers: log, Tell: seen.tell})
	if err != nil {
		return &exit{exitUsage, err}
	}
	defer b.Close()
	stopRecord, err := f.recording.start(c.Context(), e, log, map[string]string{"workspace": w.Name, "broker": br.Name})
	if err != nil {
		return err
	}
	defer func() {
		if closing := stopRecord(); closing != nil && err == nil {
			err = closing
		}
	}()
	if err := f.write(b, w); err != nil {
		return err
	}
	for _, url := range b.URLs(br.Name) {
		seen.say(map[string]any{"event": "listening", "url": url}, "stand-in on %s", url)
	}
	if faults := append(append([]string(nil), si.Faults...), f.faults...); len(faults) > 0 {
		seen.say(
			map[string]any{"event": "misbehaving", "faults": faults},
			"misbehaving: %s",
			strings.Join(faults, ", "),
		)
	}
	if !f.json {
		plain.Fprintln(e.Out, "end it with Ctrl-C")
	}
	e.obey(c.Context(), b.StandIn(br.Name), seen)
	return nil
}

// write writes the CA and the credentials.
func (f *standInFlags) write(b *workbench.Bench, w *workspace.Workspace) error {
	put := func(path string, content []byte, mode os.FileMode) error {
		if err := os.WriteFile(path, content, mode); err != nil {
			return usage("it cannot be written: %w", err)
		}
		return nil
	}
	ca, err := b.Authority()
	if err != nil {
		return err
	}
	if f.caFile != "" {
		if err := put(f.caFile, ca.RootPEM(), 0o644); err != nil {
			return err
		}
	}
	if f.credentials == "" {
		return nil
	}
	if err := os.MkdirAll(f.credentials, 0o700); err != nil {
		return usage("the folder cannot be made: %w", err)
	}
	in := func(name string) string { return filepath.Join(f.credentials, name) }
	if err := put(in("ca.pem"), ca.RootPEM(), 0o644); err != nil {
		return err
	}
	for _, name := range w.Brokers[0].StandIn.Logins {
		l := w.Login(name)
		if l == nil {
			continue
		}
		cert, err := ca.Issue(trust.Request{CommonName: name})
		if err != nil {
			return err
		}
		chain, key, err := trust.PEM(cert)
		if err != nil {
			return err
		}
		files := map[string][]byte{name + ".crt": chain, name + ".key": key}
		if l.HasPassword {
			files[name+".password"] = []byte(l.Password.Reveal() + "\n")
		}
		for file, content := range files {
			if err := put(in(file), content, 0o600); err != nil {
				return err
			}
		}
	}
	return nil
}

// announcer writes what a stand-in sees, as lines or as JSON.
type announcer struct {
	e    *Env
	json bool
	mu   sync.Mutex
}

func (s *announcer) say(doc map[string]any, format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.json {
		doc["at"] = time.Now().Format(time.RFC3339Nano)
		json.NewEncoder(s.e.Out).Encode(doc)
		return
	}
	plain.Fprintf(s.e.Out, format+"\n", args...)
}

func (s *announcer) tell(what, text string) {
	s.say(map[string]any{"event": what, "text": text}, "%s  %-8s %s", time.Now().Format("15:04:05.000"), what, text)
}

// commands are the lines that are typed, until the context ends: also where nobody types any more.
func (e *Env) commands(ctx context.Context) <-chan string {
	lines := make(chan string)
	go func() {
		defer close(lines)
		in := e.In
		if in == nil {
			in = io.LimitReader(nil, 0)
		}
		for sc := bufio.NewScanner(in); sc.Scan(); {
			select {
			case lines <- strings.TrimSpace(sc.Text()):
			case <-ctx.Done():
				return
			}
		}
		<-ctx.Done()
	}()
	out := make(chan string)
	go func() { // whoever types nothing does not hold up the end
		defer close(out)
		for {
			select {
			case <-ctx.Done():
				return
			case line, more := <-lines:
				if !more {
					return
				}
				select {
				case out <- line:
				case <-ctx.Done():
					return
				}
			}
		}
	}()
	return out
}

// obey carries out commands until there are no more and the context ends, or one is to quit.
func (e *Env) obey(ctx context.Context, s *standin.Server, out *announcer) {
	for line := range e.commands(ctx) {
		verb, rest, _ := strings.Cut(line, " ")
		switch verb {
		case "":
		case "quit":
			return
		case "clients":
			out.clients(s.Clients())
		case "refused":
			out.refused(s.Refusals())
		case "throw-out":
			if rest = strings.TrimSpace(rest); s.ThrowOut(rest) {
				out.say(map[string]any{"event": "thrown out", "client_id": rest}, "%s is thrown out", rest)
			} else {
				out.say(map[string]any{"event": "error", "text": "no client " + rest + " is connected"},
					"no client %q is connected", rest)
			}
		default:
			out.say(
				map[string]any{"event": "error", "text": "unknown command " + verb},
				"there is no command %q: clients, refused, throw-out CLIENT-ID, quit",
				verb,
			)
		}
	}
}

func (s *announcer) clients(all []standin.ClientInfo) {
	if len(all) == 0 {
		s.say(map[string]any{"event": "clients", "count": 0}, "no client is there")
	}
	for _, c := range all {
		where := "away since " + c.Since.Format("15:04:05")
		if c.Connected {
			where = c.Address
		}
		login := c.Login
		if login == "" {
			login = "anonymous"
		}
		kept := "session ends with it"
		expiry := any(int(c.Expiry / time.Second))
		switch {
		case c.Expiry == standin.Never:
			kept, expiry = "session kept", "never"
		case c.Expiry > 0:
			kept = "session kept " + c.Expiry.String()
		}
		s.say(
			map[string]any{
				"event":                "client",
				"client_id":            c.ID,
				"session_expiry":       expiry,
				"address":              c.Address,
				"version":              c.Version.String(),
				"login":                login,
				"connected":            c.Connected,
				"filters":              c.Filters,
				"in_flight":            c.InFlight,
				"waiting":              c.Waiting,
				"dropped":              c.Dropped,
				"published":            c.Published,
				"delivered":            c.Delivered,
				"published_per_second": c.PublishedRate,
				"delivered_per_second": c.DeliveredRate,
			},
			"%-24s %-22s MQTT %-5s %-12s in %.1f/s out %.1f/s, %d in flight, %d waiting, %d dropped, %s, %s",
			c.ID,
			where,
			c.Version,
			login,
			c.PublishedRate,
			c.DeliveredRate,
			c.InFlight,
			c.Waiting,
			c.Dropped,
			kept,
			strings.Join(c.Filters, " "),
		)
	}
}

func (s *announcer) refused(all []standin.Refusal) {
	if len(all) == 0 {
		s.say(map[string]any{"event": "refused", "count": 0}, "nothing was refused")
	}
	for _, r := range all {
		s.say(
			map[string]any{
				"event":     "refusal",
				"when":      r.At.Format(time.RFC3339Nano),
				"address":   r.Address,
				"client_id": r.ClientID,
				"username":  r.Username,
				"what":      r.What,
				"code":      int(r.Code),
				"why":       r.Why,
			},
			"%s  %s from %s, client id %q: %s: %s",
			r.At.Format("15:04:05.000"),
			r.What,
			r.Address,
			r.ClientID,
			r.Code.In(packet.CONNACK, packet.V5),
			r.Why,
		)
	}
}
