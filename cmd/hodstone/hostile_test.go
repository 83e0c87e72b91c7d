package main

import (
	"bufio"
	"bytes"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// hostilePeer listens and does to whoever comes what the function says.
func hostilePeer(t *testing.T, do func(net.Conn)) string {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				go io.Copy(io.Discard, c)
				do(c)
			}()
		}
	}()
	return ln.Addr().String()
}

// TestEveryCommandEndsWhenItIsTold: whatever the peer does, with each of the signals; and none takes the memory.
func TestEveryCommandEndsWhenItIsTold(t *testing.T) {
	bin := binary(t)
	in := []byte{0x20, 2, 0, 0}
	forever := func(c net.Conn, b []byte) {
		for {
			if _, err := c.Write(b); err != nil {
				return
			}
		}
	}
	silent := make(chan struct{})
	defer close(silent)
	large := append([]byte{0x30, 0xff, 0xff, 0xff, 0x7f, 0, 1, 'a'}, make([]byte, 1<<20)...)
	peers := map[string]func(net.Conn){
		"says nothing":         func(net.Conn) { <-silent },
		"a thousand CONNACKs":  func(c net.Conn) { c.Write(bytes.Repeat(in, 1000)); <-silent },
		"PINGRESP without end": func(c net.Conn) { c.Write(in); forever(c, bytes.Repeat([]byte{0xd0, 0}, 1000)) },
		"256 MB packets":       func(c net.Conn) { c.Write(in); forever(c, large) },
		"one byte every second": func(c net.Conn) {
			for _, b := range bytes.Repeat(in, 100) {
				if _, err := c.Write([]byte{b}); err != nil {
					return
				}
				time.Sleep(time.Second)
			}
		},
	}
	signals := []os.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP}
	n := 0
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	tapped := free.Addr().String()
	free.Close()
	for name, do := range peers {
		at := hostilePeer(t, do)
		for _, args := range [][]string{
			{"watch", "mqtt://" + at, "--protocol-version", "3.1.1"}, {"reach", "mqtt://" + at},
			{"prove", "--url", "mqtt://" + at}, {"send", "mqtt://" + at, "a", "b", "--every", "1s"},
			{"trust", t.TempDir(), "--at", at}, {"reach", "wss://" + at},
			{"tap", "--listen", "mqtt://" + tapped, "--to", "mqtt://" + at, "--quiet"},
			{"tap", "--listen", "mqtt://" + tapped, "--to", "mqtt://" + at, "--rule", "{delay: all, by: 10s}", "--quiet"},
		} {
			n++
			if args[0] == "tap" { // a device comes, and reads nothing
				go func() {
					for range 50 {
						time.Sleep(20 * time.Millisecond)
						if c, err := net.Dial("tcp", tapped); err == nil {
							defer c.Close()
							c.Write([]byte{0x10, 13, 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 10, 0, 1, 'a'})
							<-silent
							return
						}
					}
				}()
			}
			c := exec.Command(bin, args...)
			var out bytes.Buffer
			c.Stdout, c.Stderr = &out, &out
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			done := make(chan error, 1)
			go func() { done <- c.Wait() }()
			select {
			case <-done: // it knows already
			case <-time.After(700 * time.Millisecond):
				start := time.Now()
				c.Process.Signal(signals[n%len(signals)])
				select {
				case <-done:
				case <-time.After(10 * time.Second):
					c.Process.Kill()
					t.Errorf("%s: %s goes on after %s\n%.300s", name, args[0], signals[n%len(signals)], out.String())
					<-done
				}
				t.Logf(
					"%s: %s ended %s after %s",
					name,
					args[0],
					time.Since(start).Round(time.Millisecond),
					signals[n%len(signals)],
				)
			}
			if use, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok && use.Maxrss > 300<<10 {
				t.Errorf("%s: %s took %d MB", name, args[0], use.Maxrss>>10)
			}
		}
	}
}

// TestTheRecordIsClosedHoweverItEnds: a command that records is told to end, or loses who reads its output.
func TestTheRecordIsClosedHoweverItEnds(t *testing.T) {
	bin := binary(t)
	at := hostilePeer(t, func(c net.Conn) {
		c.Write([]byte{0x20, 2, 0, 0})
		for i := 0; ; i++ {
			if _, err := c.Write([]byte{0x90, 3, 0, 1, 0, 0x30, 4, 0, 1, 'a', 'x'}); err != nil {
				return
			}
			time.Sleep(time.Millisecond)
		}
	})
	for _, how := range []string{"head", "SIGHUP"} {
		path := filepath.Join(t.TempDir(), "a.db")
		c := exec.Command(bin, "watch", "mqtt://"+at, "--protocol-version", "3.1.1", "--record", path)
		out, err := c.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		var said bytes.Buffer
		c.Stderr = &said
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		r := bufio.NewReader(out)
		for range 3 {
			if _, err := r.ReadString('\n'); err != nil {
				t.Fatal(err, said.String())
			}
		}
		if how == "head" {
			out.Close()
		} else {
			c.Process.Signal(syscall.SIGHUP)
			go io.Copy(io.Discard, r)
		}
		done := make(chan error, 1)
		go func() { done <- c.Wait() }()
		select {
		case <-done:
		case <-time.After(15 * time.Second):
			c.Process.Kill()
			t.Fatalf("%s: it goes on: %s", how, said.String())
		}
		if code := c.ProcessState.ExitCode(); how == "head" &&
			(code != 141 || strings.Contains(said.String(), "broken pipe")) {
			t.Errorf("%s: exit %d: %s", how, code, said.String())
		}
		got, err := exec.Command(bin, "trace", "show", path, "--plain").CombinedOutput()
		if err != nil || !strings.Contains(string(got), "PUBLISH") {
			t.Errorf("%s: the record: %v %.300s", how, err, got)
		}
		if left, _ := filepath.Glob(path + "-wal"); len(left) > 0 {
			t.Errorf("%s: the record was not closed: %v", how, left)
		}
	}
}

// TestAFullDiskIsTold: by the exit code and a line, at once.
func TestAFullDiskIsTold(t *testing.T) {
	bin := binary(t)
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer full.Close()
	for _, args := range [][]string{{"version"}, {"--help"}, {"completion", "bash"}} {
		c := exec.Command(bin, args...)
		var said bytes.Buffer
		c.Stdout, c.Stderr = full, &said
		c.Run()
		if code := c.ProcessState.ExitCode(); code != 2 ||
			!strings.Contains(said.String(), "the output cannot be written") {
			t.Errorf("%v: exit %d %s", args, code, said.String())
		}
	}
}
