package trust

import (
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"software.sslmate.com/src/go-pkcs12"
)

// SamplePassphrase opens what is encrypted among the samples.
const SamplePassphrase = "eelgrass"

// WriteSamples writes a folder of credentials as people get them: some sound, some irregular.
// They are of a CA of that name, made anew. The folder is made where it is missing; a file that is
// there already is an error.
func WriteSamples(dir, name string) error {
	a, err := NewLongAuthority(name)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	var failed error
	write := func(name string, mode os.FileMode, data []byte, err error) {
		if failed == nil {
			failed = err
		}
		if failed != nil {
			return
		}
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
		if err == nil {
			_, err = f.Write(data)
			if closing := f.Close(); err == nil {
				err = closing
			}
		}
		if err == nil {
			err = os.Chmod(filepath.Join(dir, name), mode) // whatever the umask
		}
		failed = err
	}
	days := func(n int) time.Time { return time.Now().Add(time.Duration(n) * 24 * time.Hour) }
	pair := func(r Request) (chain, key []byte, err error) {
		c, err := a.Issue(r)
		if err != nil {
			return nil, nil, err
		}
		return PEM(c)
	}
	write("farm-ca.crt", 0o644, a.RootPEM(), nil)
	chain, key, err := pair(Request{CommonName: "pen-1", Until: days(200)})
	write("pen-1.crt", 0o644, chain, err)
	write("pen-1.key", 0o600, key, nil)
	// The mail program added its own ending, and the key's name says nothing.
	chain, key, err = pair(Request{CommonName: "pen-2", Until: days(12), From: days(-180)})
	write("pen-2.crt.txt", 0o644, []byte(strings.ReplaceAll(string(chain), "\n", "\r\n")), err)
	write("8f3ac91b", 0o644, key, nil)
	chain, _, err = pair(Request{CommonName: "pen-3", Until: days(-9), From: days(-374)})
	write("pen-3.crt", 0o644, chain, err)
	barge, err := a.Issue(Request{CommonName: "barge", Until: days(150)})
	if err != nil {
		return err
	}
	store, err := pkcs12.Modern.Encode(barge.PrivateKey, barge.Leaf, nil, SamplePassphrase)
	write("barge.p12", 0o600, store, err)
	locked, err := a.Issue(Request{CommonName: "shore", Until: days(300)})
	if err != nil {
		return err
	}
	sealed, err := LockedPEM(locked, SamplePassphrase)
	write("shore.key", 0o600, sealed, err)
	write("shore.der", 0o644, locked.Certificate[0], nil)
	weak, err := a.Issue(Request{CommonName: "feeder-old", Key: "RSA 1024", Until: days(90), From: days(-600)})
	if err != nil {
		return err
	}
	chain, key, err = PEM(weak)
	write("feeder.pem", 0o640, append(chain, key...), err)
	other, err := NewAuthority("Skerry Net")
	if err != nil {
		return err
	}
	visitor, err := other.Issue(Request{CommonName: "survey-boat", Until: days(25), From: days(-60)})
	if err != nil {
		return err
	}
	write(
		"survey-boat.crt",
		0o644,
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: visitor.Certificate[0]}),
		nil,
	)
	write("new-ca.pem", 0o644, []byte("<!DOCTYPE html>\n<html><head><title>Sign in</title></head></html>\n"), nil)
	write("pen-4.crt", 0o644, chain[:len(chain)/3], nil)
	if failed != nil {
		return fmt.Errorf("the sample credentials cannot be written: %w", failed)
	}
	return nil
}
