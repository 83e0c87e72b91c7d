// Package auth holds the methods of enhanced authentication (MQTT 5.0 §4.12): what goes
// to and fro in CONNECT, AUTH and CONNACK, without the packets themselves.
package auth

import (
	"crypto/rand"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"sync"

	"github.com/xdg-go/scram"
)

// SCRAMSHA256 is the name of the method that ships: RFC 5802 with the hash of RFC 7677,
// named as in the registry of SASL mechanisms.
const SCRAMSHA256 = "SCRAM-SHA-256"

// iterations is how often the hash is applied to a password; RFC 7677 §4 asks for
// at least 4096.
const iterations = 4096

// maxIterations bounds what a server can make a client compute: about a second.
const maxIterations = 2_000_000

// iterationCount finds the count in a server's first message (RFC 5802 §5.1).
var iterationCount = regexp.MustCompile(`,i=([0-9]+)`)

// Method makes the client's side of exchanges. It is safe for concurrent use.
type Method interface {
	// Name is the authentication method that CONNECT names.
	Name() string
	// Begin starts an exchange: at CONNECT, and at each re-authentication.
	Begin() Exchange
}

// Exchange is one side of one authentication. Not safe for concurrent use.
type Exchange interface {
	// Next takes the authentication data that came, nil at the client's beginning, and
	// returns what to send. The error says why the other side is not believed.
	Next(data []byte) ([]byte, error)
	// Proven tells whether the other side has shown what it must.
	Proven() bool
}

// conversation is what both of [scram.ClientConversation] and [scram.ServerConversation] are.
type conversation interface {
	Step(challenge string) (string, error)
	Done() bool
	Valid() bool
}

type exchange struct{ conversation }

func (e exchange) Next(data []byte) ([]byte, error) {
	if m := iterationCount.FindSubmatch(data); m != nil {
		if n, err := strconv.Atoi(string(m[1])); err != nil || n > maxIterations {
			return nil, fmt.Errorf("%s: the other side asks for %s iterations; at most %d are made", SCRAMSHA256, m[1], maxIterations)
		}
	}
	out, err := e.Step(string(data))
	return []byte(out), err
}

func (e exchange) Proven() bool { return e.Done() && e.Valid() }

type scramMethod struct{ client *scram.Client }

// NewSCRAM returns the client's side of SCRAM-SHA-256. The error tells of a user name or
// password that cannot be prepared as RFC 4013 asks.
func NewSCRAM(username, password string) (Method, error) {
	c, err := scram.SHA256.NewClient(username, password, "")
	if err != nil {
		return nil, fmt.Errorf("%s: the user name or password holds characters that are not allowed (RFC 4013): %w", SCRAMSHA256, err)
	}
	return scramMethod{c}, nil
}

func (scramMethod) Name() string      { return SCRAMSHA256 }
func (m scramMethod) Begin() Exchange { return exchange{m.client.NewConversation()} }

// Verifier is a server's knowledge of passwords, salted and hashed as SCRAM wants them.
// It is safe for concurrent use.
type Verifier struct {
	passwords map[string]string
	server    *scram.Server

	mu     sync.Mutex
	stored map[string]scram.StoredCredentials
}

// NewVerifier returns a verifier for the passwords by user name.
func NewVerifier(passwords map[string]string) (*Verifier, error) {
	v := &Verifier{passwords: passwords, stored: map[string]scram.StoredCredentials{}}
	var err error
	v.server, err = scram.SHA256.NewServer(v.lookUp)
	return v, err
}

// lookUp hashes a password when it is first asked for: with a thousand logins that
// would take seconds at the start.
func (v *Verifier) lookUp(user string) (scram.StoredCredentials, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if c, ok := v.stored[user]; ok {
		return c, nil
	}
	password, ok := v.passwords[user]
	if !ok {
		return scram.StoredCredentials{}, errors.New("there is no such user")
	}
	c, err := scram.SHA256.NewClient(user, password, "")
	if err != nil {
		return scram.StoredCredentials{}, err
	}
	v.stored[user], err = c.GetStoredCredentialsWithError(scram.KeyFactors{Salt: rand.Text()[:16], Iters: iterations})
	return v.stored[user], err
}

// ServerExchange is the server's side of an exchange.
type ServerExchange struct {
	exchange
	c *scram.ServerConversation
}

// Begin starts the server's side of an exchange.
func (v *Verifier) Begin() *ServerExchange {
	c := v.server.NewConversation()
	return &ServerExchange{exchange{c}, c}
}

// Username returns the user who wants to get in, after the first data.
func (e *ServerExchange) Username() string { return e.c.Username() }
