// Package events hands what happened in the service to those who listen. Ids
// are given here, after the records were committed, by one counter: a listener
// that comes back with the last id it saw misses nothing, or is told that it
// did.
package events

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
)

// Event is one thing that happened.
type Event struct {
	ID   string
	Name string // look, roster, refresh, reset
	Data any
}

// kept is how many past events a listener can still catch up on.
const kept = 4096

// Broker takes events and hands them out. Publish never waits.
type Broker struct {
	mu      sync.Mutex
	epoch   string // differs from one run of the service to the next
	next    uint64
	past    []Event
	changed chan struct{}
}

// NewBroker returns a broker; epoch is anything no earlier run had.
func NewBroker(epoch string) *Broker {
	return &Broker{epoch: epoch, changed: make(chan struct{})}
}

// Publish gives an event its id and hands it out.
func (b *Broker) Publish(name string, data any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.next++
	b.past = append(b.past, Event{b.id(b.next), name, data})
	if len(b.past) > kept {
		b.past = append(b.past[:0], b.past[len(b.past)-kept/2:]...)
	}
	close(b.changed)
	b.changed = make(chan struct{})
}

func (b *Broker) id(n uint64) string { return fmt.Sprintf("%s-%d", b.epoch, n) }

// Listen calls each with every event after the one named by last, the empty
// string for those from now on, until each fails or ctx ends. If events after
// last are no longer known, the first is a "reset".
func (b *Broker) Listen(ctx context.Context, last string, each func(Event) error) error {
	b.mu.Lock()
	seen := b.next
	if last != "" {
		epoch, number, _ := strings.Cut(last, "-")
		n, err := strconv.ParseUint(number, 10, 64)
		oldest := b.next - uint64(len(b.past))
		if err != nil || epoch != b.epoch || n < oldest || n > b.next {
			reset := Event{ID: b.id(b.next), Name: "reset", Data: struct{}{}}
			b.mu.Unlock()
			if err := each(reset); err != nil {
				return err
			}
			b.mu.Lock()
		} else {
			seen = n
		}
	}
	for {
		missed := int(b.next - seen)
		var batch []Event
		reset := missed > len(b.past)
		if reset {
			batch = []Event{{ID: b.id(b.next), Name: "reset", Data: struct{}{}}}
		} else {
			batch = append(batch, b.past[len(b.past)-missed:]...)
		}
		seen = b.next
		changed := b.changed
		b.mu.Unlock()
		for _, e := range batch {
			if err := each(e); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
		b.mu.Lock()
	}
}
