package events_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/events"
)

var errEnough = errors.New("enough")

func listen(b *events.Broker, last string, n int) []events.Event {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	var got []events.Event
	_ = b.Listen(ctx, last, func(e events.Event) error {
		if got = append(got, e); len(got) == n {
			return errEnough
		}
		return nil
	})
	return got
}

func names(list []events.Event) []string {
	var names []string
	for _, e := range list {
		names = append(names, e.Name)
	}
	return names
}

func TestListenerCatchesUp(t *testing.T) {
	b := events.NewBroker("a")
	for _, name := range []string{"one", "two", "three"} {
		b.Publish(name, nil)
	}
	assert.Equal(t, []string{"two", "three"}, names(listen(b, "a-1", 2)))
	assert.Equal(t, []string{"three"}, names(listen(b, "a-2", 1)))
}

func TestListenerIsToldWhatItMissed(t *testing.T) {
	b := events.NewBroker("b")
	b.Publish("one", nil)
	for _, last := range []string{"a-1", "b-9", "nonsense"} {
		got := listen(b, last, 1)
		assert.Equal(t, []string{"reset"}, names(got), last)
		assert.Equal(t, "b-1", got[0].ID)
	}
	for range 10_000 {
		b.Publish("many", nil)
	}
	assert.Equal(t, []string{"reset"}, names(listen(b, "b-1", 1)))
}

func TestListenerFromNowOn(t *testing.T) {
	b := events.NewBroker("a")
	b.Publish("before", nil)
	go func() {
		for range 100 {
			time.Sleep(5 * time.Millisecond)
			b.Publish("after", nil)
		}
	}()
	assert.Equal(t, []string{"after", "after"}, names(listen(b, "", 2)))
}
