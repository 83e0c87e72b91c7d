package explore_test

import (
	"context"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/explore"
	"hodstone/internal/proof/model"
	"hodstone/internal/workspace"
)

// TestARealBrokerIsExplored: nothing that Debian's broker does is against the model, but what docs/deviations.md
// proves: a repeated SUBSCRIBE leaves the options of the first, of overlapping subscriptions the lower QoS may win, and
// several messages at QoS 2 at a time may be more than the receive maximum.
func TestARealBrokerIsExplored(t *testing.T) {
	if testing.Short() {
		t.Skip("sockets")
	}
	broker := brokertest.Start(t, brokertest.Options{})
	login := &workspace.Login{
		Username:    brokertest.Username,
		Password:    workspace.NewSecret(brokertest.Password),
		HasPassword: true,
	}
	dial := func(ctx context.Context) (*link.Link, error) {
		return link.Dial(ctx, broker.URLs["tcp"], link.Options{})
	}
	known := func(_ packet.Version, actions []explore.Action, v *model.Violation) bool {
		subscribed := map[[2]int]bool{}
		again := false
		for _, a := range actions {
			if a.Kind == explore.Subscribe {
				at := [2]int{a.Client, a.Filter}
				again = again || subscribed[at]
				subscribed[at] = true
			}
		}
		switch v.Rule {
		case &model.FlagOfCopy, &model.OwnMessage, &model.Delivered, &model.Twice:
			return again
		case &model.QoSOfCopy, &model.Window:
			return true
		}
		return false
	}
	r, err := explore.Run(
		context.Background(),
		proof.Target{Broker: "broker", Listener: "tcp", Dial: dial, Login: login},
		explore.Options{For: 15 * time.Second, Seed: 11, Versions: proof.Versions(), Findings: 3, Known: known},
	)
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.Findings {
		t.Error(told(&r.Findings[i]))
	}
	if r.Conversations < 16 {
		t.Errorf("%d conversations only", r.Conversations)
	}
	t.Logf("%d conversations, %d actions, %d suspicions: %v", r.Conversations, r.Actions, r.Suspicions, r.Unshown)
}
