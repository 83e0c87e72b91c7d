package client

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"hodstone/internal/mqtt/packet"
)

// replies are the requests of a client that wait for their responses (5.0 §4.10).
type replies struct {
	topics  map[string]bool    // subscribed to for responses
	waiting map[string]*waiter // by correlation data
}

// responded hands a response to the request that waits for it, and tells whether one did.
func (c *Client) responded(p *packet.Publish) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.replies.topics[p.Topic] {
		return false
	}
	data, _ := p.Properties.Str(packet.CorrelationData)
	w := c.replies.waiting[data]
	delete(c.replies.waiting, data)
	if w == nil {
		return false
	}
	w.done <- p
	return true
}

// Request publishes p as a request whose response comes back to the topic responses,
// which is subscribed to first, and returns the response (5.0 §4.10.1). Version 5 only.
func (c *Client) Request(ctx context.Context, p packet.Publish, responses string) (*packet.Publish, error) {
	if c.opt.Version != packet.V5 {
		return nil, errors.New("requests with a response topic need version 5 (5.0 §4.10)")
	}
	if err := c.listen(ctx, responses); err != nil {
		return nil, err
	}
	id := rand.Text()
	w := &waiter{done: make(chan packet.Packet, 1)}
	c.mu.Lock()
	if c.replies.waiting == nil {
		c.replies.waiting = map[string]*waiter{}
	}
	c.replies.waiting[id] = w
	c.mu.Unlock()
	defer func() {
		c.mu.Lock()
		delete(c.replies.waiting, id)
		c.mu.Unlock()
	}()
	p.Properties = append(p.Properties.Without(packet.ResponseTopic, packet.CorrelationData),
		packet.Str(packet.ResponseTopic, responses), packet.Str(packet.CorrelationData, id))
	gone := c.Done()
	if code, err := c.Publish(ctx, p); err != nil || code >= 0x80 {
		if err == nil {
			err = fmt.Errorf("the request was not taken: %s", code.In(packet.PUBACK, packet.V5))
		}
		return nil, err
	}
	select {
	case r := <-w.done:
		return r.(*packet.Publish), nil
	case <-gone:
		return nil, fmt.Errorf("the request to %s has no response: the connection ended", p.Topic)
	case <-ctx.Done():
		return nil, fmt.Errorf("the request to %s has no response: %w", p.Topic, context.Cause(ctx))
	}
}

// listen subscribes to the topic of responses, once a session.
func (c *Client) listen(ctx context.Context, responses string) error {
	c.mu.Lock()
	there := c.replies.topics[responses]
	c.mu.Unlock()
	if there {
		return nil
	}
	ack, err := c.Subscribe(ctx, []packet.Subscription{{Filter: responses, QoS: 1, RetainHandling: packet.RetainDontSend}})
	if err != nil {
		return err
	}
	if code := ack.Codes[0]; code >= 0x80 {
		return fmt.Errorf("the response topic %s was refused: %s", responses, code.In(packet.SUBACK, packet.V5))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.replies.topics == nil {
		c.replies.topics = map[string]bool{}
	}
	c.replies.topics[responses] = true
	return nil
}
