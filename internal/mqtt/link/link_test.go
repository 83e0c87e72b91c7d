package link

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"strings"
	"testing"
	"time"
)

// pairs returns both kinds of link, so that one test holds them to the same behaviour.
func pairs(t *testing.T) map[string]func() (*Link, *Link) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ln.Close() })
	return map[string]func() (*Link, *Link){
		"pipe": Pipe,
		"tcp": func() (*Link, *Link) {
			a, err := Dial(context.Background(), "mqtt://"+ln.Addr().String())
			if err != nil {
				t.Fatal(err)
			}
			b, err := ln.Accept()
			if err != nil {
				t.Fatal(err)
			}
			return a, Wrap(b)
		},
	}
}

func TestHowALinkEnds(t *testing.T) {
	for name, pair := range pairs(t) {
		t.Run(name, func(t *testing.T) {
			a, b := pair()
			if _, err := a.Write([]byte("last words")); err != nil {
				t.Fatal(err)
			}
			a.Close()
			got, err := io.ReadAll(b)
			if string(got) != "last words" || err != nil || b.End() != EndFIN || a.End() != EndClosed {
				t.Errorf("after close: %q, %v, %q and %q", got, err, b.End(), a.End())
			}
			b.Close()

			a, b = pair()
			a.Cut()
			_, err = b.Read(make([]byte, 10))
			if err == nil || b.End() != EndRST || a.End() != EndCut {
				t.Errorf("after cut: %v, %q and %q", err, b.End(), a.End())
			}
			if _, err := a.Read(make([]byte, 1)); !errors.Is(err, net.ErrClosed) {
				t.Errorf("reading what one has cut: %v", err)
			}
			b.Close()
		})
	}
}

func TestAFrozenLinkIsSilentUntilItThaws(t *testing.T) {
	for name, pair := range pairs(t) {
		t.Run(name, func(t *testing.T) {
			a, b := pair()
			defer b.Close()
			defer a.Close()
			a.Freeze()
			a.Write([]byte("held"))
			b.Write([]byte("unseen"))
			read := make(chan string, 2)
			for _, l := range []*Link{a, b} {
				go func() {
					buf := make([]byte, 20)
					n, _ := l.Read(buf)
					read <- string(buf[:n])
				}()
			}
			select {
			case s := <-read:
				t.Fatalf("a frozen link let %q through", s)
			case <-time.After(50 * time.Millisecond):
			}
			if err := a.Thaw(); err != nil {
				t.Fatal(err)
			}
			if s := <-read + <-read; s != "heldunseen" && s != "unseenheld" {
				t.Errorf("after the thaw: %q", s)
			}
			a.Freeze()
			done := make(chan error)
			go func() { _, err := a.Read(make([]byte, 1)); done <- err }()
			a.Close()
			if err := <-done; !errors.Is(err, net.ErrClosed) {
				t.Errorf("closing a frozen link: %v", err)
			}
		})
	}
}

func TestPipeTakesMoreThanItsBuffer(t *testing.T) {
	a, b := Pipe()
	want := bytes.Repeat([]byte("0123456789abcdef"), 100_000)
	go func() { a.Write(want); a.Close() }()
	if got, err := io.ReadAll(b); err != nil || !bytes.Equal(got, want) {
		t.Fatalf("%d bytes, %v", len(got), err)
	}
}

func TestDialErrorsSayWhatToTry(t *testing.T) {
	ln, _ := net.Listen("tcp", "127.0.0.1:0")
	addr := ln.Addr().String()
	ln.Close()
	for url, want := range map[string]string{
		"mqtt://" + addr: "nothing listens on that port",
		"mqtts://x:1":    "over TCP only",
		"10.0.0.7:1883":  "write mqtt://HOST",
		"mqtt://":        "write mqtt://HOST",
	} {
		if _, err := Dial(context.Background(), url); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", url, err)
		}
	}
	if a, err := Address("mqtt://[::1]"); a != "[::1]:1883" || err != nil {
		t.Error(a, err)
	}
}
