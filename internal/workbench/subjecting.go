package workbench

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/subject"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
	"hodstone/internal/trial"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// Subject says which device is put to the proof, and where it dials.
type Subject struct {
	// Device is its name, such as pen-2. It is played, through the tap, unless the workspace says that it is real, or Real
	// does.
	Device string
	Real   bool
	// Listen is where it dials the tap, as a URL; "" for loopback, with TLS where its broker's listener has it.
	Listen string
	// Faults are what a played one does wrong, beside those that the workspace names.
	Faults []string
	// Began is told where it has to dial; it may be nil.
	Began func(at string)
}

// stand is where a device is put to the proof.
type stand struct {
	b      *Bench
	broker string
	tap    *tap.Tap
	at     string
	ca     *trust.Authority
	tls    bool
	host   string
	hello  atomic.Int64

	mu    sync.Mutex // guards what follows
	shown *tls.Certificate
	made  map[subject.Shown]*tls.Certificate
}

func (s *stand) Log() *trace.Log              { return s.b.Log }
func (s *stand) Contract() *contract.Contract { return s.b.Workspace().Contract }
func (s *stand) Tap() *tap.Tap                { return s.tap }
func (s *stand) At() string                   { return s.at }
func (s *stand) Breaches() []contract.Breach  { return s.b.Snapshot().Breaches }
func (s *stand) Hellos() int                  { return int(s.hello.Load()) }

func (s *stand) Publish(ctx context.Context, m packet.Publish) error {
	return s.b.Send(ctx, "", Message{Topic: m.Topic, Payload: m.Payload, QoS: m.QoS, Retain: m.Retain})
}

func (s *stand) Blind(since time.Time) string {
	return s.b.blind(since, map[string]bool{s.broker: true})
}

// Show lets the tap show another certificate from now on.
func (s *stand) Show(x subject.Shown) bool {
	if !s.tls {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	pair, err := s.certificate(x)
	if err != nil {
		return false
	}
	s.shown = pair
	return true
}

// certificate makes one that the tap can show; s.mu is held.
func (s *stand) certificate(x subject.Shown) (*tls.Certificate, error) {
	if c := s.made[x]; c != nil {
		return c, nil
	}
	ca, r := s.ca, trust.Request{CommonName: "Hodstone tap", Names: trust.LocalNames(s.host)}
	switch x {
	case subject.Stranger:
		var err error
		if ca, err = trust.NewAuthority("a stranger's CA"); err != nil {
			return nil, err
		}
	case subject.WrongName:
		r.Names = []string{"elsewhere.example"}
	case subject.Expired:
		r.Expired = true
	case subject.SelfSigned:
		r.SelfSigned = true
	}
	c, err := ca.Issue(r)
	if err != nil {
		return nil, err
	}
	s.made[x] = &c
	return &c, nil
}

// PutToProof puts a device to the proof, alone on its site: behind a tap that it dials is the broker that the workspace
// names for it. It returns when all checks are done. The bench must not have been started.
func (b *Bench) PutToProof(ctx context.Context, x Subject, o subject.Options) (*proof.Proof, error) {
	b.play.gate = rate.NewLimiter(connectRate, 1)
	return b.putToProof(ctx, x, o, b.startAlone)
}

// putToProof puts a device to the proof; begin has the site watched, and nobody else on it.
func (b *Bench) putToProof(ctx context.Context, x Subject, o subject.Options, begin func()) (*proof.Proof, error) {
	kind, number, err := b.kindOf(x.Device)
	if err != nil {
		return nil, err
	}
	if kind.Plays == "" {
		return nil, fmt.Errorf("%s plays no party: there is nothing to hold it to", x.Device)
	}
	real := x.Real || kind.IsReal(number)
	if real && len(x.Faults) > 0 {
		return nil, fmt.Errorf("%s is real: faults are for devices that are played", x.Device)
	}
	if br := b.Workspace().Broker(kind.Broker); br == nil {
		return nil, fmt.Errorf("the workspace has no usable broker for %s", x.Device)
	}
	if b.Record != nil {
		return nil, errors.New("a record has no devices to put to the proof")
	}
	s := &stand{b: b, broker: kind.Broker, made: map[subject.Shown]*tls.Certificate{}}
	if err := s.listen(kind, x); err != nil {
		return nil, err
	}
	defer s.tap.Close()
	played, err := b.throughTap(s, kind, number, x.Faults)
	if err != nil {
		return nil, err
	}
	d := &subject.Device{Name: x.Device, Party: kind.Plays, Params: played.State().Params}
	if !real {
		defer played.Stop()
		d.Start, d.Stop = played.Start, played.Stop
	}
	b.obs.standsFor(x.Device, 1)
	defer b.obs.standsFor(x.Device, -1)
	if x.Began != nil {
		x.Began(s.at)
	}
	begin()
	for _, w := range b.observers.all() {
		w.waitReady(b.ctx, settleWithin)
	}
	for end := time.Now().Add(settleWithin); ; {
		why := s.Blind(time.Now())
		if !strings.Contains(why, "has not begun") {
			break
		}
		if time.Now().After(end) || ctx.Err() != nil {
			return nil, fmt.Errorf("nothing can be seen at the broker: %s", why)
		}
		time.Sleep(10 * time.Millisecond)
	}
	return subject.Run(ctx, s, d, o), nil
}

// kindOf finds the kind of a device and its number.
func (b *Bench) kindOf(name string) (*workspace.Device, int, error) {
	var all []string
	for _, kind := range b.Workspace().Devices {
		for n := range max(1, kind.Count) {
			if workspace.DeviceName(kind, n+1) == name {
				return kind, n + 1, nil
			}
			all = append(all, workspace.DeviceName(kind, n+1))
		}
	}
	if len(all) > 12 {
		all = append(all[:12], "…")
	}
	return nil, 0, fmt.Errorf("there is no device %q in the workspace; there are: %s", name, strings.Join(all, ", "))
}

// listen opens the tap.
func (s *stand) listen(kind *workspace.Device, x Subject) error {
	_, url, err := s.b.address(kind.Broker, kind.Listener)
	if err != nil {
		return err
	}
	where := x.Listen
	if where == "" {
		e, err := link.Parse(url)
		if err != nil {
			return err
		}
		where = "mqtt://127.0.0.1:0"
		if e.TLS {
			where = "mqtts://127.0.0.1:0"
		}
	}
	e, err := link.Parse(where)
	if err != nil {
		return err
	}
	var config *tls.Config
	if e.TLS {
		if s.ca, err = s.b.Authority(); err != nil {
			return err
		}
		s.tls, s.host = true, e.Host
		s.Show(subject.Sound)
		config = &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			s.hello.Add(1)
			s.mu.Lock()
			defer s.mu.Unlock()
			if s.shown == nil {
				return nil, errors.New("no certificate could be made")
			}
			return s.shown, nil
		}}
	}
	s.tap = tap.New(tap.Options{
		Dial: s.b.dialer(kind.Broker, kind.Listener, nil), Broker: kind.Broker, Log: s.b.Log,
		Names: func(string) string { return x.Device },
	})
	s.at, err = s.tap.Listen(where, config)
	return err
}

// throughTap is the device, played, that dials the tap.
func (b *Bench) throughTap(s *stand, kind *workspace.Device, number int, faults []string) (*device.Device, error) {
	w := b.Workspace()
	login := w.Login(workspace.FillIn(kind.Login, number))
	d := device.New(device.Options{
		Kind: kind, Number: number, Contract: w.Contract, Login: login, Broker: kind.Broker,
		Dial: func(ctx context.Context) (*link.Link, error) {
			o := link.Options{}
			if s.tls {
				o.TLS = trust.ClientTLS([]*x509.Certificate{s.ca.Root()}, "", nil)
			}
			return link.Dial(ctx, s.at, o)
		},
		Gate: b.play.gate, Seed: b.opt.Seed,
	})
	if len(faults) > 0 {
		all := d.State().Faults
		for _, f := range faults {
			if !slices.Contains(all, f) {
				all = append(all, f)
			}
		}
		if err := d.Misbehave(all...); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// startAlone starts the observers, and no device.
func (b *Bench) startAlone() {
	b.started = time.Now()
	b.obs.plays(b.Players())
	b.observe()
	b.wg.Go(b.watch)
}

// subjecting holds the device that is put to the proof on an open bench.
type subjecting struct {
	mu     sync.Mutex // guards what follows
	state  SubjectState
	cancel context.CancelFunc
	answer chan trial.Answer
}

// SubjectState is how a device that is put to the proof stands.
type SubjectState struct {
	Device, At string
	Running    bool
	Started    time.Time
	Checks     []*subject.Check
	Results    []proof.Result
	Doing      string // the check under way
	Question   string // what a person is asked now; "" for nothing
	Err        error  // why it could not be put to the proof
	Kept       bool   // among the proofs
	NotKept    error  // why its proof could not be kept in the file
}

// Subjected returns how the device stands that was put to the proof last; zero for none.
func (b *Bench) Subjected() SubjectState {
	b.subjecting.mu.Lock()
	defer b.subjecting.mu.Unlock()
	out := b.subjecting.state
	out.Results = slices.Clone(out.Results)
	return out
}

// StartSubject puts a device to the proof in the background. All other devices are off meanwhile, so that what it does is
// its own; who was on is on again afterwards.
func (b *Bench) StartSubject(x Subject) error {
	if b.Record != nil {
		return errors.New("a record has no devices to put to the proof")
	}
	t := &b.subjecting
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.cancel != nil {
		return fmt.Errorf("%s is put to the proof: stop that first", t.state.Device)
	}
	ctx, cancel := context.WithCancel(b.ctx)
	t.cancel, t.answer = cancel, make(chan trial.Answer)
	t.state = SubjectState{Device: x.Device, Running: true, Started: time.Now(), Checks: subject.Checks()}
	change := func(f func(*SubjectState)) {
		t.mu.Lock()
		defer t.mu.Unlock()
		f(&t.state)
	}
	x.Began = func(at string) { change(func(s *SubjectState) { s.At = at }) }
	o := subject.Options{
		Ask:    b.asksOf,
		Begins: func(c *subject.Check) { change(func(s *SubjectState) { s.Doing = c.Name }) },
		Told:   func(r proof.Result) { change(func(s *SubjectState) { s.Results = append(s.Results, r) }) },
	}
	b.wg.Go(func() {
		defer cancel()
		on := b.on()
		others := slices.DeleteFunc(slices.Clone(on), func(name string) bool { return name == x.Device })
		b.obs.holdsOff(others, true)
		b.off(on)
		p, err := b.putToProof(ctx, x, o, func() {})
		if b.ctx.Err() == nil {
			for _, name := range on {
				if d := b.Device(name); d != nil { // as the workspace says now
					d.Start()
				}
			}
		}
		b.obs.holdsOff(others, false)
		var notKept error
		whole := err == nil && ctx.Err() == nil
		if whole {
			_, notKept = b.keep(p)
		}
		change(func(s *SubjectState) {
			s.Running, s.Doing, s.Question, s.Err, s.Kept, s.NotKept = false, "", "", err, whole &&
				notKept == nil, notKept
		})
		t.mu.Lock()
		t.cancel = nil
		t.mu.Unlock()
	})
	return nil
}

// on are the names of the devices that are on.
func (b *Bench) on() (on []string) {
	for _, d := range b.play.all() {
		if st := d.State(); st.Phase != device.Off && st.Phase != device.Real {
			on = append(on, st.Name)
		}
	}
	return on
}

// off switches devices off, side by side.
func (b *Bench) off(names []string) {
	var wg sync.WaitGroup
	for _, name := range names {
		if d := b.Device(name); d != nil {
			wg.Go(d.Stop)
		}
	}
	wg.Wait()
}

// asksOf shows a question of the device's proof, and waits for its answer.
func (b *Bench) asksOf(ctx context.Context, text string) (bool, string, error) {
	t := &b.subjecting
	t.mu.Lock()
	t.state.Question = text
	answer := t.answer
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		t.state.Question = ""
		t.mu.Unlock()
	}()
	select {
	case a := <-answer:
		return a.Yes, a.Left, nil
	case <-ctx.Done():
		return false, "", context.Cause(ctx)
	}
}

// AnswerSubject answers the question that stands; nothing happens where none does.
func (b *Bench) AnswerSubject(a trial.Answer) {
	t := &b.subjecting
	t.mu.Lock()
	answer, stands := t.answer, t.state.Question != ""
	t.mu.Unlock()
	if stands {
		select {
		case answer <- a:
		case <-time.After(time.Second):
		}
	}
}

// StopSubject ends the proof under way.
func (b *Bench) StopSubject() {
	b.subjecting.mu.Lock()
	defer b.subjecting.mu.Unlock()
	if b.subjecting.cancel != nil {
		b.subjecting.cancel()
	}
}
