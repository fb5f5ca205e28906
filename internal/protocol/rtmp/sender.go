package rtmp

import (
	"metaplasis/internal/core/amf"
	"metaplasis/internal/onward/tags"
)

// Sender sends access units over a connection. It implements onward.Sender.
type Sender struct {
	*tags.Writer
	c *Conn
}

// queued queues what a connection sends with the next Flush.
type queued struct{ c *Conn }

func (q queued) Metadata(values amf.ECMAArray) {
	q.c.mu.Lock()
	defer q.c.mu.Unlock()
	q.c.client.Metadata(values)
}

func (q queued) Media(kind uint8, timestamp uint32, body []byte) {
	q.c.mu.Lock()
	defer q.c.mu.Unlock()
	q.c.client.Media(kind, timestamp, body)
}

// NewSender makes a sender of a connection.
func NewSender(c *Conn) *Sender {
	w := tags.New(queued{c})
	w.Takes = c.Takes
	return &Sender{w, c}
}

// Cue implements onward.Sender.
func (s *Sender) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (s *Sender) Flush() error {
	if err := s.Err(); err != nil {
		return err
	}
	return s.c.Flush()
}

// Failed implements onward.Sender.
func (s *Sender) Failed() <-chan error { return s.c.Failed() }

// Close implements onward.Sender.
func (s *Sender) Close() error { return s.c.Close() }
