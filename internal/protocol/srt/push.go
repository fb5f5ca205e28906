package srt

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"metaplasis/internal/libsrt"
	"metaplasis/internal/onward/mux"
)

// streamOptions reads what the query of an address says: latency in milliseconds, streamid, passphrase, pbkeylen, overhead.
func streamOptions(u *url.URL) (o libsrt.Options, err error) {
	q := u.Query()
	number := func(name string) int {
		if !q.Has(name) || err != nil {
			return 0
		}
		n, wrong := strconv.Atoi(q.Get(name))
		if wrong != nil {
			err = fmt.Errorf("found %s %q, expected a whole number", name, q.Get(name))
		}
		return n
	}
	o = libsrt.Options{StreamID: q.Get("streamid"), Passphrase: q.Get("passphrase"), Latency: time.Duration(number("latency")) * time.Millisecond,
		KeyLength: number("pbkeylen"), Overhead: number("overhead"), Connect: 5 * time.Second}
	return o, err
}

// Dial calls srt://host:port?streamid=…; with mode=listener it waits for a call on that port, with mode=rendezvous it
// meets the other side.
func Dial(ctx context.Context, u *url.URL) (*mux.Conn, error) {
	o, err := streamOptions(u)
	if err != nil {
		return nil, err
	}
	s, err := open(ctx, u, o)
	if err != nil {
		return nil, err
	}
	failed := make(chan error, 1)
	go func() { // hears the other side go
		buf := make([]byte, libsrt.MessageSize)
		for {
			if _, err := s.Read(buf); err != nil && err != libsrt.ErrTimeout {
				failed <- err
				return
			}
		}
	}()
	write := func(b []byte) error {
		for len(b) > 0 {
			n := min(livePayload, len(b))
			if err := s.Write(b[:n]); err != nil {
				return err
			}
			b = b[n:]
		}
		return nil
	}
	conn := mux.NewConn(write, func() error { s.Close(); return nil }, failed)
	return conn, conn.SetRate(u)
}

// fits reports whether who calls has our passphrase, or neither side has one.
func fits(s *libsrt.Socket, passphrase string) bool {
	key := s.Key()
	for n := 0; key == libsrt.KeyPending && n < 50; n++ {
		time.Sleep(20 * time.Millisecond)
		key = s.Key()
	}
	return key == libsrt.KeyGood || passphrase == "" && key == libsrt.KeyNone
}

func open(ctx context.Context, u *url.URL, o libsrt.Options) (*libsrt.Socket, error) {
	switch mode := u.Query().Get("mode"); mode {
	case "", "caller":
		return libsrt.Dial(u.Host, o)
	case "rendezvous":
		local := u.Query().Get("local")
		if local == "" {
			local = ":" + u.Port()
		}
		return libsrt.Rendezvous(local, u.Host, o)
	case "listener":
		l, err := libsrt.Listen(u.Host, o, func(string, string) libsrt.Decision {
			return libsrt.Decision{Passphrase: o.Passphrase, KeyLength: o.KeyLength}
		})
		if err != nil {
			return nil, err
		}
		stop := context.AfterFunc(ctx, l.Close)
		defer stop()
		s, err := l.Accept()
		for err == nil && !fits(s, o.Passphrase) {
			s.Close()
			s, err = l.Accept()
		}
		if err == nil {
			go func() { // further calls find nobody; the port stays, since closing it would end the connection's
				for {
					other, err := l.Accept()
					if err != nil {
						return
					}
					other.Close()
				}
			}()
		}
		return s, err
	default:
		return nil, fmt.Errorf("found the mode %q, expected caller, listener or rendezvous", mode)
	}
}
