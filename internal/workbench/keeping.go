package workbench

import (
	"bytes"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/history"
	"hodstone/internal/proof"
	"hodstone/internal/report"
)

// keeping are the proofs and trials of a bench, whether a file keeps them too or not.
type keeping struct {
	mu  sync.Mutex // guards what follows
	all []keptHere
}

// keptHere is a proof that the bench itself remembers.
type keptHere struct {
	entry history.Entry // ID is negative where no file has it, else its number there
	proof *report.Document
}

// mostProofs is how many proofs a bench remembers by itself.
const mostProofs = 24

// wayOf names the way that a target is.
func wayOf(t *proof.Target) (broker, listener string) {
	listener, _, _ = strings.Cut(t.Listener, " ")
	return t.Broker, listener
}

// before is the latest proof of a way with as many checks, of this bench or from the file; nil for none.
func (b *Bench) before(t proof.Target, checks int) (*report.Document, error) {
	broker, listener := wayOf(&t)
	if d := b.keeping.latest(broker, listener, checks); d != nil || b.opt.Proofs == "" {
		return d, nil
	}
	h, err := history.Open(b.opt.Proofs)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	return Latest(h, broker, listener, checks)
}

// latest is the latest proof of a listener that has as many checks; nil for none.
func (k *keeping) latest(broker, listener string, checks int) *report.Document {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, x := range slices.Backward(k.all) {
		if x.entry.Broker == broker && x.entry.Listener == listener && len(x.proof.Checks) >= checks {
			return x.proof
		}
	}
	return nil
}

// keep keeps a proof that has come to its end, and returns its number. The error says why the file does not have it.
func (b *Bench) keep(p *proof.Proof) (id int64, err error) {
	d := report.NewDocument(p)
	x := keptHere{entry: entryOf(p), proof: &d}
	if b.opt.Proofs != "" {
		var h *history.History
		if h, err = history.Open(b.opt.Proofs); err == nil {
			x.entry.ID, err = Keep(h, p)
			h.Close()
		}
	}
	k := &b.keeping
	k.mu.Lock()
	defer k.mu.Unlock()
	if x.entry.ID == 0 {
		x.entry.ID = -1
		for _, o := range k.all {
			x.entry.ID = min(x.entry.ID, o.entry.ID-1)
		}
	}
	k.all = append(k.all[max(0, len(k.all)-mostProofs+1):], x)
	return x.entry.ID, err
}

func entryOf(p *proof.Proof) history.Entry {
	broker, listener := wayOf(&p.Target)
	return history.Entry{
		Started:  p.Started,
		Broker:   broker,
		Listener: listener,
		Summary:  report.SummaryLine(p.Counts()),
	}
}

// Keep puts a proof into a history, and returns its number there.
func Keep(h *history.History, p *proof.Proof) (int64, error) {
	var b bytes.Buffer
	if err := report.JSON(&b, p); err != nil {
		return 0, err
	}
	return h.Keep(entryOf(p), b.Bytes())
}

// Latest is the latest proof of a listener in a history that has as many checks, looked for among the last ten; nil for
// none.
func Latest(h *history.History, broker, listener string, checks int) (*report.Document, error) {
	const among = 10
	list, err := h.List(broker, listener, among)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		d, err := documentOf(h, e.ID)
		if err != nil {
			return nil, err
		}
		if len(d.Checks) >= checks {
			return d, nil
		}
	}
	return nil, nil
}

func documentOf(h *history.History, id int64) (*report.Document, error) {
	b, err := h.Document(id)
	if err != nil {
		return nil, err
	}
	return report.ReadDocument(bytes.NewReader(b))
}

// KeptProofs lists the proofs and the rounds of trials that the file beside the workspace or this bench keeps, the
// newest first. The error says what is wrong with the file; what the bench itself remembers is listed all the same.
func (b *Bench) KeptProofs() (out []history.Entry, err error) {
	if b.opt.Proofs != "" {
		var h *history.History
		if h, err = history.Open(b.opt.Proofs); err == nil {
			out, err = h.List("", "", history.Most)
			h.Close()
		}
	}
	k := &b.keeping
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, x := range k.all {
		if !slices.ContainsFunc(out, func(e history.Entry) bool { return e.ID == x.entry.ID }) {
			out = append(out, x.entry)
		}
	}
	slices.SortStableFunc(out, func(x, y history.Entry) int { return y.Started.Compare(x.Started) })
	return out, err
}

// KeptProof reads a proof that [Bench.KeptProofs] lists, by its number.
func (b *Bench) KeptProof(id int64) (*report.Document, error) {
	k := &b.keeping
	k.mu.Lock()
	i := slices.IndexFunc(k.all, func(x keptHere) bool { return x.entry.ID == id })
	if i >= 0 {
		defer k.mu.Unlock()
		return k.all[i].proof, nil
	}
	k.mu.Unlock()
	h, err := history.Open(b.opt.Proofs)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	return documentOf(h, id)
}

// keepTrials keeps what trials came to that were run together.
func (b *Bench) keepTrials(started time.Time, results []proof.Result) error {
	if len(results) == 0 {
		return nil
	}
	_, err := b.keep(
		&proof.Proof{Target: b.trialsTarget(), Started: started, Results: results, Took: time.Since(started)},
	)
	return err
}

// trialsTarget is what stands in the place of a broker and its listener for trials: the site.
func (b *Bench) trialsTarget() proof.Target {
	return proof.Target{Broker: b.Workspace().Name, Listener: "trials"}
}
