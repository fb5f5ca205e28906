package library

import (
	"metaplasis/internal/lru"

	"sync"
	"time"

	"metaplasis/internal/core/item"
)

// indexes hold where the access units of items lie, of those that were asked for recently: bounded in bytes, however many files there
// are. What was let go is found out again when somebody asks.
type indexes struct {
	items   *lru.Cache[*Entry, *item.Item]
	mu      sync.Mutex
	opening map[*Entry]*opening
	room    chan struct{} // for items that are looked into again at a time
}

// opening is an item that is being looked into again.
type opening struct {
	done chan struct{}
	err  error
}

// reopenWait is for how long a request waits for an item that is looked into again.
const reopenWait = 8 * time.Second

// atOnce is how many items are looked into again at a time.
const atOnce = 2

// get returns the item of an entry, nil when it is not held.
func (x *indexes) get(e *Entry) *item.Item {
	it, _ := x.items.Get(e)
	return it
}

// put holds an item, and returns those that are let go for it.
func (x *indexes) put(e *Entry, it *item.Item) (gone []*item.Item) {
	if x.get(e) != nil {
		return nil
	}
	return x.items.Put(e, it, it.Cost())
}

// drop lets the item of an entry go that is there no more, nil when it was not held.
func (x *indexes) drop(e *Entry) *item.Item {
	it, _ := x.items.Remove(e)
	return it
}

// again looks into an item once for all who ask for it.
func (x *indexes) again(e *Entry, look func() error) *opening {
	x.mu.Lock()
	defer x.mu.Unlock()
	if o := x.opening[e]; o != nil {
		return o
	}
	if x.opening == nil {
		x.opening, x.room = map[*Entry]*opening{}, make(chan struct{}, atOnce)
	}
	o := &opening{done: make(chan struct{})}
	x.opening[e] = o
	go func() {
		x.room <- struct{}{}
		o.err = look()
		<-x.room
		x.mu.Lock()
		delete(x.opening, e)
		x.mu.Unlock()
		close(o.done)
	}()
	return o
}

// itemOf returns the item of an entry that was looked into, nil when it cannot be had now, and why.
func (l *Library) itemOf(e *Entry) (*item.Item, string) {
	if it := l.indexes.get(e); it != nil {
		return it, ""
	}
	var fresh *item.Item
	o := l.indexes.again(e, func() error {
		it, _, _, err := l.openSafely(e)
		if err == nil {
			l.hold(e, it)
		}
		return err
	})
	late := time.NewTimer(reopenWait)
	defer late.Stop()
	select {
	case <-o.done:
	case <-late.C:
		return nil, stillLooking
	}
	if o.err != nil {
		return nil, "The file cannot be read now: " + o.err.Error()
	}
	if fresh = l.indexes.get(e); fresh == nil { // so many others came at once
		return nil, stillLooking
	}
	return fresh, ""
}

// stillLooking is why an item does not play yet.
const stillLooking = "It is still being looked through: try again in a while."

// hold keeps the item of an entry, and lets go what was made of others for it.
func (l *Library) hold(e *Entry, it *item.Item) {
	for _, old := range l.indexes.put(e, it) {
		l.cache.forget(old)
	}
}
