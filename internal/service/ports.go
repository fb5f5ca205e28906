package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"runtime/debug"
	"sync"
	"time"

	"github.com/quic-go/quic-go"
	"github.com/quic-go/quic-go/http3"

	"metaplasis/internal/network"
)

// certificates reads a certificate again when its file has changed, without losing the one at
// hand when the new one is broken.
type certificates struct {
	cert, key string
	logger    *slog.Logger

	mu      sync.Mutex
	pair    *tls.Certificate
	made    time.Time // when the file was last written
	checked time.Time
}

// certificateEvery is how often the file is looked at, at most.
const certificateEvery = time.Second

// certificate makes a TLS configuration for HTTP/2 and HTTP/1.1 from a certificate's files.
func certificate(cert, key string, logger *slog.Logger) (*tls.Config, error) {
	if cert == "" || key == "" {
		return nil, errors.New("RTMPS and HTTPS need a certificate: give its file and the file of its key")
	}
	c := &certificates{cert: cert, key: key, logger: logger}
	if err := c.load(); err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get}, nil
}

// written returns when the newer of the two files was written.
func (c *certificates) written() (at time.Time) {
	for _, name := range []string{c.cert, c.key} {
		if info, err := os.Stat(name); err == nil && info.ModTime().After(at) {
			at = info.ModTime()
		}
	}
	return at
}

func (c *certificates) load() error {
	at := c.written()
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("certificate %s: %w", c.cert, err)
	}
	c.pair, c.made = &pair, at
	return nil
}

func (c *certificates) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.checked) >= certificateEvery {
		c.checked = now
		if at := c.written(); !at.Equal(c.made) {
			if err := c.load(); err != nil {
				c.logger.Warn("the certificate on disk cannot be used; the one before stays", "error", err)
			}
		}
	}
	return c.pair, nil
}

// loud tells of a handler that panics, which the server itself would only note.
func (s *Service) loud(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if why := recover(); why != nil {
				if why != http.ErrAbortHandler {
					s.conf.Logger.Error("a request broke the handler", "path", r.URL.Path, "why", why, "stack", string(debug.Stack()))
				}
				panic(http.ErrAbortHandler)
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// How long a request's body and its answer may take, unless a handler gives them more.
const (
	bodyWithin   = 30 * time.Second
	answerWithin = 60 * time.Second
)

// serveHTTP answers HTTP/1.1 and HTTP/2, the latter without TLS to who knows beforehand.
func (s *Service) serveHTTP(l net.Listener, handler http.Handler, conf *tls.Config) {
	if l == nil {
		return
	}
	var protocols http.Protocols
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	protocols.SetUnencryptedHTTP2(true)
	server := &http.Server{
		Handler: s.loud(handler), TLSConfig: conf, Protocols: &protocols,
		HTTP2:             &http.HTTP2Config{MaxConcurrentStreams: 250},
		ReadHeaderTimeout: 10 * time.Second, ReadTimeout: bodyWithin, WriteTimeout: answerWithin, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 32 << 10, ConnState: network.HTTPState,
		ErrorLog: slog.NewLogLogger(s.conf.Logger.Handler(), slog.LevelDebug),
	}
	s.stop = append(s.stop, func() {
		s.control.CloseLive()
		s.leave()
		s.delivery.Stop()
		ctx, cancel := context.WithTimeout(context.Background(), stopTimeout)
		defer cancel()
		if server.Shutdown(ctx) != nil {
			_ = server.Close()
		}
	})
	go func() {
		var err error
		if conf != nil {
			err = server.ServeTLS(l, "", "")
		} else {
			err = server.Serve(l)
		}
		if !errors.Is(err, http.ErrServerClosed) {
			s.failed <- fmt.Errorf("HTTP port: %w", err)
		}
	}()
}

// serveHTTP3 answers HTTP/3 on the UDP port beside the HTTPS port, and returns a handler that tells
// the viewers of the other protocols about it.
func (s *Service) serveHTTP3(beside net.Addr, handler http.Handler, conf *tls.Config) (http.Handler, error) {
	tcp := beside.(*net.TCPAddr)
	udp, err := net.ListenUDP("udp", &net.UDPAddr{IP: tcp.IP, Port: tcp.Port, Zone: tcp.Zone})
	if err != nil {
		return nil, fmt.Errorf("HTTP/3 port %s: %w", beside, err)
	}
	server := &http3.Server{Handler: network.Deadlines(bodyWithin, answerWithin, handler), Port: tcp.Port, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10}
	s.stop = append(s.stop, func() {
		_ = server.Close()
		_ = udp.Close()
	})
	go func() {
		quicConf := &quic.Config{MaxIdleTimeout: 2 * time.Minute, MaxIncomingStreams: 100, MaxIncomingUniStreams: 8}
		err := network.ServeQUIC(udp, http3.ConfigureTLSConfig(conf.Clone()), quicConf, server.ServeQUICConn)
		if err != nil && !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
			s.failed <- fmt.Errorf("HTTP/3 port: %w", err)
		}
	}()
	announced := fmt.Sprintf(`h3=":%d"; ma=86400`, udp.LocalAddr().(*net.UDPAddr).Port) // RFC 7838, 3; RFC 9114, 3.1.1
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Alt-Svc", announced)
		handler.ServeHTTP(w, r)
	}), nil
}
