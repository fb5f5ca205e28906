package srt

import (
	"context"
	"errors"
	"net/url"
	"time"

	"metaplasis/internal/network"
	"metaplasis/internal/onward/mux"
)

// callWithin is how long the far end may take to answer.
const callWithin = 10 * time.Second

// Call opens a way to a receiver, as the address says: it calls, meets, or waits on a port of its own for the receiver's
// call. The secret, a passphrase, may stand in the address too.
func (m *Manager) Call(ctx context.Context, u *url.URL) (*mux.Conn, error) {
	d, err := dialOf(u, u.Query().Get("passphrase"))
	if err != nil {
		return nil, err
	}
	d.Sends = true
	kind, patience := byte(kindDial), callWithin
	if d.Mode == modeListener {
		kind, patience = kindListen, time.Hour
	} else if d.Remote, err = network.Resolve(ctx, d.Remote); err != nil {
		return nil, err
	}
	r, id, sent := m.ask(kind, d)
	if !sent {
		m.forget(id)
		return nil, errors.New("the process that runs SRT is being started")
	}
	c, err := m.opened(ctx, r, patience)
	if err != nil {
		m.forget(id)
		return nil, err
	}
	failed := make(chan error, 1)
	go func() {
		<-c.over
		failed <- errors.New(c.why)
	}()
	conn := mux.NewConn(func(b []byte) error { return m.write(c, b) }, func() error { m.hangUp(c.id); m.forget(id); return nil }, failed)
	return conn, conn.SetRate(u)
}

// ask asks the host for a connection, or for a port.
func (m *Manager) ask(kind byte, d *dialMessage) (r *request, id uint32, sent bool) {
	r = newRequest()
	m.mu.Lock()
	m.last++
	id = m.last
	m.requests[id] = r
	m.mu.Unlock()
	return r, id, m.tell(kind, id, d)
}

// forget takes a request back.
func (m *Manager) forget(id uint32) {
	m.mu.Lock()
	delete(m.requests, id)
	m.mu.Unlock()
	m.tell(kindClose, id, []byte{})
}

// opened waits for the connection that was asked for.
func (m *Manager) opened(ctx context.Context, r *request, patience time.Duration) (*conn, error) {
	limit := time.NewTimer(patience)
	defer limit.Stop()
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-limit.C:
		return nil, errors.New("the far end does not answer")
	case e := <-r.over:
		return nil, errors.New(e.text)
	case e := <-r.opened:
		m.mu.Lock()
		defer m.mu.Unlock()
		c := m.conns[e.id]
		if c == nil {
			return nil, errors.New("the far end left at once")
		}
		r.busy = true
		return c, nil
	}
}
