// Package brokertest starts the broker from Debian's packages for tests, on loopback, with a
// configuration of its own. Only tests import it.
package brokertest

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"hodstone/internal/trust"
)

// The one login of a broker that has logins, and the subject of its client certificate.
const (
	Username = "bench"
	Password = "s3cret-eelgrass"
)

// Options say how the broker is configured.
type Options struct {
	// Anonymous lets everybody in and opens a plain TCP listener alone; else there is a
	// listener of every transport, and one needs [Username] and [Password].
	Anonymous bool
	// Persistence keeps sessions and retained messages over restarts by SIGTERM.
	Persistence bool
	// Users are more users, with [Password]; Rights is the content of the file of rights, ""
	// for none.
	Users  []string
	Rights string
	// Lines are added to the configuration, Listener to that of the plain TCP listener.
	Lines, Listener string
}

// Broker is a running broker; it ends with the test.
type Broker struct {
	// URLs are its listeners: "tcp", "tls", "ws", "wss" and "tls with client certificate".
	URLs map[string]string
	// CA signed its certificates, and Client is what the last listener wants; Revoked is on
	// Revocations, its list of those that it refuses, in PEM.
	CA              *x509.CertPool
	CAs             []*x509.Certificate // the same
	Client, Revoked tls.Certificate
	Revocations     []byte

	t    testing.TB
	file string
	cmd  *exec.Cmd
	gone chan struct{} // closed when it has ended

	mu  sync.Mutex
	log bytes.Buffer
}

// Start starts the broker and waits until it listens; without it the test fails. Short runs ('go test -short', what
// 'make mutants' does for every change) leave out what needs one: those alone.
func Start(t testing.TB, o Options) *Broker {
	t.Helper()
	if testing.Short() {
		t.Skip("a real broker has no place in a short run")
	}
	for _, tool := range []string{"mosquitto", "mosquitto_passwd"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Fatalf("%s is missing: 'make test' installs it (Debian package mosquitto)", tool)
		}
	}
	dir := t.TempDir()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	b := &Broker{t: t, URLs: map[string]string{}, file: filepath.Join(dir, "broker.conf")}
	// Without a user of its own it would drop its rights and not read root's files.
	config := fmt.Sprintf(
		"user %s\npersistence %v\npersistence_location %s/\nautosave_interval 0\n",
		me.Username,
		o.Persistence,
		dir,
	)
	type listener struct{ name, scheme, path, lines string }
	listeners := []listener{{"tcp", "mqtt", "", o.Listener}}
	if o.Anonymous {
		config += "allow_anonymous true\n"
	} else {
		passwords := filepath.Join(dir, "passwords")
		if err := os.WriteFile(passwords, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		for _, u := range append([]string{Username}, o.Users...) {
			if out, err := exec.Command("mosquitto_passwd", "-b", passwords, u, Password).CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
		}
		if o.Rights != "" {
			rights := filepath.Join(dir, "rights")
			if err := os.WriteFile(rights, []byte(o.Rights), 0o600); err != nil {
				t.Fatal(err)
			}
			config += "acl_file " + rights + "\n"
		}
		config += "log_type all\nallow_anonymous false\npassword_file " + passwords + "\n"
		secure := b.certificates(dir)
		listeners = append(
			listeners,
			listener{"tls", "mqtts", "", secure},
			listener{"ws", "ws", "/mqtt", "protocol websockets\n"},
			listener{"wss", "wss", "/mqtt", "protocol websockets\n" + secure},
			listener{
				"tls with client certificate",
				"mqtts",
				"",
				secure + "require_certificate true\ncrlfile " + filepath.Join(dir, "crl.pem") + "\n",
			},
		)
	}
	config += o.Lines
	t.Cleanup(func() {
		b.end(os.Interrupt)
		if t.Failed() {
			t.Logf("the broker's log:\n%s", b.Log())
		}
	})
	// A port that was free may be taken again before the broker gets it.
	for try := 1; ; try++ {
		text, taken := config, make([]net.Listener, len(listeners))
		for i, l := range listeners {
			if taken[i], err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
				t.Fatal(err)
			}
			port := taken[i].Addr().(*net.TCPAddr).Port
			text += fmt.Sprintf("listener %d 127.0.0.1\n%s", port, l.lines)
			b.URLs[l.name] = fmt.Sprintf("%s://127.0.0.1:%d%s", l.scheme, port, l.path)
		}
		for _, l := range taken {
			l.Close()
		}
		if err := os.WriteFile(b.file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err = b.run(); err == nil {
			return b
		}
		if try == 5 || !strings.Contains(b.Log(), "Address already in use") {
			t.Fatal(err)
		}
	}
}

// StartFile starts the broker with a configuration that is there already, to which the user that it runs as is added,
// and waits until it listens at the URLs.
func StartFile(t testing.TB, file string, urls map[string]string) *Broker {
	t.Helper()
	if testing.Short() {
		t.Skip("a real broker has no place in a short run")
	}
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(file)
	if err == nil {
		err = os.WriteFile(file, append(text, "\nuser "+me.Username+"\n"...), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	b := &Broker{t: t, URLs: urls, file: file}
	t.Cleanup(func() {
		b.end(os.Interrupt)
		if t.Failed() {
			t.Logf("the broker's log:\n%s", b.Log())
		}
	})
	b.Run()
	return b
}

// certificates writes what the broker needs for TLS and returns its lines.
func (b *Broker) certificates(dir string) string {
	b.t.Helper()
	kit, err := trust.NewKit(Username, "127.0.0.1")
	if err != nil {
		b.t.Fatal(err)
	}
	b.Client = kit.Client
	chain, key, err := trust.PEM(kit.Server)
	if err != nil {
		b.t.Fatal(err)
	}
	if b.Revoked, err = kit.Issue(trust.Request{CommonName: Username}); err != nil {
		b.t.Fatal(err)
	}
	if b.Revocations, err = kit.Revoke(b.Revoked.Leaf); err != nil {
		b.t.Fatal(err)
	}
	for name, content := range map[string][]byte{"ca.pem": kit.RootPEM(), "chain.pem": chain, "key.pem": key, "crl.pem": b.Revocations} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
			b.t.Fatal(err)
		}
	}
	b.CA, b.CAs = kit.Pool(), []*x509.Certificate{kit.Root()}
	return fmt.Sprintf("cafile %[1]s/ca.pem\ncertfile %[1]s/chain.pem\nkeyfile %[1]s/key.pem\n", dir)
}

// Run starts the broker, again after [Broker.Stop] or [Broker.Kill], and waits until all
// listeners take connections.
func (b *Broker) Run() {
	b.t.Helper()
	if err := b.run(); err != nil {
		b.t.Fatal(err)
	}
}

func (b *Broker) run() error {
	cmd := exec.Command("mosquitto", "-c", b.file)
	cmd.Stdout, cmd.Stderr = b, b
	if err := cmd.Start(); err != nil {
		return err
	}
	b.cmd = cmd
	gone := make(chan struct{})
	go func() {
		cmd.Wait()
		close(gone)
	}()
	b.gone = gone
	for name, u := range b.URLs {
		_, address, _ := strings.Cut(u, "://")
		address, _, _ = strings.Cut(address, "/")
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			if c, err := net.Dial("tcp", address); err == nil {
				c.Close()
				break
			}
			select {
			case <-gone:
				b.cmd = nil
				return fmt.Errorf("the broker ended by itself:\n%s", b.Log())
			default:
			}
			if time.Now().After(end) {
				b.Kill()
				return fmt.Errorf("the broker does not listen for %s:\n%s", name, b.Log())
			}
		}
	}
	return nil
}

// Write takes the broker's output.
func (b *Broker) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.log.Write(p)
}

// Log is what the broker has written so far.
func (b *Broker) Log() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.log.String()
}

// Stop ends the broker by SIGTERM; with persistence it writes its state.
func (b *Broker) Stop() { b.end(syscall.SIGTERM) }

// Kill ends the broker by SIGKILL.
func (b *Broker) Kill() { b.end(syscall.SIGKILL) }

func (b *Broker) end(s os.Signal) {
	if b.cmd != nil {
		b.cmd.Process.Signal(s)
		<-b.gone
		b.cmd = nil
	}
}

// CPU is the processor time that the broker has used.
func (b *Broker) CPU() time.Duration {
	b.t.Helper()
	d, err := ProcessCPU(b.cmd.Process.Pid)
	if err != nil {
		b.t.Fatal(err)
	}
	return d
}

// ProcessCPU reads the processor time of a process from /proc (proc(5)), in steps of
// 10 ms.
func ProcessCPU(pid int) (time.Duration, error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	user, err := strconv.Atoi(fields[11])
	if err != nil {
		return 0, err
	}
	system, err := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond, err
}

// PID is the number of its process.
func (b *Broker) PID() int { return b.cmd.Process.Pid }
