package workbench

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/device"
	"hodstone/internal/workspace"
)

// editsEvery is how often the workspace's file is looked at.
const editsEvery = time.Second

// Workspace returns what is in force: the latest revision of the file that is sound.
func (b *Bench) Workspace() *workspace.Workspace { return b.doc.Workspace() }

// Problems returns what is wrong with the workspace's file; old tells that an earlier revision is in force for that
// reason.
func (b *Bench) Problems() (problems []*workspace.Problem, old bool) { return b.doc.Problems() }

// follow takes in the workspace's file whenever it, or a file that it names, changes.
func (b *Bench) follow() {
	tick := time.NewTicker(editsEvery)
	defer tick.Stop()
	for {
		select {
		case <-b.ctx.Done():
			return
		case <-tick.C:
		}
		b.editing.Lock()
		before := b.doc.Workspace()
		changed, err := b.doc.Reload()
		trouble := ""
		if problems, old := b.doc.Problems(); err != nil {
			trouble = err.Error()
		} else if old {
			trouble = fmt.Sprintf(
				"%s has problems since it was edited: line %d: %s",
				filepath.Base(before.File), problems[0].Line, problems[0].Message,
			)
		}
		b.reach.edited(trouble, changed)
		if changed {
			b.revise(before, b.doc.Workspace())
		}
		b.editing.Unlock()
	}
}

// revise puts another revision into force: the contract, the logins, the devices whose definition changed, and
// the taps and the observers of real brokers that did. What a stand-in is made of stays until the workspace is opened again.
func (b *Bench) revise(old, now *workspace.Workspace) {
	contractChanged := !workspace.Same(old, now, "contract")
	if contractChanged {
		b.obs.judgeBy(now.Contract)
	}
	b.obs.mu.Lock()
	b.obs.plays(b.Players())
	b.obs.mu.Unlock()
	for _, br := range now.Brokers {
		for _, l := range br.Listeners {
			b.brokers.urls.set(br.Name, l.Name, l.URL)
		}
	}
	// A device goes on as it is where nothing that it is made of has changed.
	same := func(kind *workspace.Device, number int) bool {
		br := now.Broker(kind.Broker)
		login := workspace.FillIn(kind.Login, number)
		return !contractChanged && workspace.Same(old, now, "device "+kind.Name) && br != nil &&
			(br.StandIn != nil || workspace.Same(old, now, "broker "+br.Name)) &&
			(login == "" || workspace.Same(old, now, "login "+login))
	}
	before := map[string]*device.Device{}
	for _, d := range b.play.all() {
		before[d.State().Name] = d
	}
	var list, fresh, kept []*device.Device
	for _, kind := range now.Devices {
		for n := range max(1, kind.Count) {
			if d := before[device.Name(kind, n+1)]; d != nil && same(kind, n+1) {
				list, kept = append(list, d), append(kept, d)
				continue
			}
			d := b.newDevice(kind, n+1)
			list, fresh = append(list, d), append(fresh, d)
		}
	}
	var wg sync.WaitGroup
	off := map[string]bool{}
	for name, d := range before {
		stays := false
		for _, k := range kept {
			stays = stays || k == d
		}
		if !stays {
			off[name] = d.State().Phase == device.Off
			wg.Go(d.Stop) // its successor may have the same client identifier
		}
	}
	wg.Wait()
	b.play.mu.Lock()
	b.play.list = list
	b.play.mu.Unlock()
	for _, d := range fresh {
		if b.ctx.Err() == nil && !off[d.State().Name] { // who was switched off stays so
			d.Start()
		}
	}
	b.startTaps()
	for _, o := range b.observers.all() {
		br := now.Broker(o.broker.Name)
		if o.leave == nil && o.broker.StandIn == nil &&
			(br == nil || !workspace.Same(old, now, "broker "+br.Name) ||
				!workspace.Same(old, now, "login "+br.Login)) {
			b.dismiss(o)
		}
	}
	b.observe()
}

// observe sets observers going at the brokers that are used and have none.
func (b *Bench) observe() {
	w := b.Workspace()
	used := map[string]bool{}
	if first := w.Broker(""); first != nil {
		used[first.Name] = true
	}
	for _, kind := range w.Devices {
		if br := w.Broker(kind.Broker); br != nil {
			used[br.Name] = true
		}
	}
	if broker, _, moved := strings.Cut(b.At(), "/"); moved || broker != "" {
		used[broker] = true
	}
	for _, o := range b.observers.all() {
		delete(used, o.broker.Name)
	}
	for _, br := range w.Brokers {
		if !used[br.Name] || br.StandIn != nil && b.brokers.standins[br.Name] == nil {
			continue
		}
		o := newObserver(b, br, "")
		ctx, cancel := context.WithCancel(b.ctx)
		o.dismiss = cancel
		b.obs.mu.Lock()
		b.obs.judge.Expect(br.Name, time.Now())
		b.obs.looks(o.name)
		b.obs.mu.Unlock()
		b.observers.add(o)
		b.wg.Go(func() { o.run(ctx) })
	}
}

// dismiss ends an observer.
func (b *Bench) dismiss(o *observer) {
	o.dismiss()
	b.observers.remove(o)
}

// keepSecrets gives the logins the passwords that were made up for them, and the stand-ins' listeners their CA.
func keepSecrets(old, now *workspace.Workspace) {
	for _, l := range now.Logins {
		if was := old.Login(l.Name); was != nil && !l.HasPassword && !l.HasToken && l.Certificate == nil {
			l.Password, l.HasPassword = was.Password, was.HasPassword
		}
	}
	for _, br := range now.Brokers {
		was := old.Broker(br.Name)
		if br.StandIn == nil || was == nil || was.StandIn == nil {
			continue
		}
		for i := range br.StandIn.Listeners {
			for _, l := range was.StandIn.Listeners {
				if l.Name == br.StandIn.Listeners[i].Name {
					br.StandIn.Listeners[i].CA = l.CA
				}
			}
		}
	}
}

// judgeBy begins to judge anew, by another contract.
func (o *observing) judgeBy(c *contract.Contract) {
	o.mu.Lock()
	defer o.mu.Unlock()
	now := time.Now()
	before := o.judge
	o.judge, o.contract = contract.NewJudge(c, rule.All()), c
	o.excuse()
	o.revised = now
	for _, s := range before.Sights(now) {
		o.judge.Expect(s.Eye, now)
		if s.Open {
			o.sees(s.Eye, now)
		}
	}
}

// restarting tells in words what of the file does not come into force before the workspace is opened again; "" for
// nothing.
func (b *Bench) restarting() string {
	var names []string
	w := b.Workspace()
	for _, br := range w.Brokers {
		if br.StandIn != nil && b.brokers.standins[br.Name] != nil && !workspace.Same(b.opened, w, "broker "+br.Name) ||
			br.StandIn != nil && b.brokers.standins[br.Name] == nil {
			names = append(names, br.Name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return "the stand-in " + strings.Join(names, ", ") + " was edited: that counts when the workspace is opened again"
}

// Revision says in a line what became of edits of the workspace's file; "" where it was not edited.
func (b *Bench) Revision() string {
	if b.Record != nil || b.doc.Revision() == 1 {
		return ""
	}
	if text := b.restarting(); text != "" {
		return text
	}
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	if !b.obs.revised.IsZero() {
		return "judged by the contract as edited at " + b.obs.revised.Format("15:04:05")
	}
	return ""
}
