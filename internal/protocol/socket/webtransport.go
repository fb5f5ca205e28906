package socket

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"sync"
	"time"

	"metaplasis/internal/network"

	"github.com/go-chi/chi/v5"
	"github.com/quic-go/quic-go"
	"github.com/quic-go/quic-go/http3"
	"github.com/quic-go/webtransport-go"
)

// WebTransport serves over HTTP/3, on a port of its own. On the stream that a viewer opens, both sides write messages as
//
//	length(32) kind(8) message
//
// whose kind is 0 of a text and 1 of a binary message, and whose length counts the message alone.
type WebTransport struct {
	Port int // UDP, in use

	s      *Server
	server webtransport.Server
	udp    *net.UDPConn
	tls    *tls.Config
	quic   *quic.Config
	own    *ownCertificate // nil with one that was given
}

const (
	textFrame   = 0
	binaryFrame = 1
	frameHead   = 5
	// streamWithin is how long a viewer may take to open its stream.
	streamWithin = 5 * time.Second
)

// ListenWebTransport opens the port. conf is nil without a certificate: then the service makes one of its own, which
// browsers trust by its hash.
func (s *Server) ListenWebTransport(address string, conf *tls.Config) (*WebTransport, error) {
	at, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return nil, fmt.Errorf("WebTransport port %s: %w", address, err)
	}
	udp, err := net.ListenUDP("udp", at)
	if err != nil {
		return nil, fmt.Errorf("WebTransport port %s: %w", address, err)
	}
	t := &WebTransport{s: s, udp: udp, Port: udp.LocalAddr().(*net.UDPAddr).Port}
	if conf == nil {
		t.own = &ownCertificate{now: time.Now}
		conf = &tls.Config{MinVersion: tls.VersionTLS13, GetCertificate: t.own.get}
	}
	r := chi.NewRouter()
	r.HandleFunc("/socket/{channel}", t.answer)
	h3 := &http3.Server{Handler: r, TLSConfig: http3.ConfigureTLSConfig(conf.Clone()), IdleTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10,
		QUICConfig: &quic.Config{EnableDatagrams: true, EnableStreamResetPartialDelivery: true, MaxIncomingStreams: 8, MaxIncomingUniStreams: 8}}
	webtransport.ConfigureHTTP3Server(h3)
	t.tls, t.quic = h3.TLSConfig, h3.QUICConfig
	t.server = webtransport.Server{H3: h3, CheckOrigin: func(*http.Request) bool { return true }} // nothing of the browser's own is used
	return t, nil
}

// Serve serves until the port is closed.
func (t *WebTransport) Serve() error {
	err := network.ServeQUIC(t.udp, t.tls, t.quic, t.server.ServeQUICConn)
	if errors.Is(err, net.ErrClosed) || errors.Is(err, http.ErrServerClosed) || errors.Is(err, quic.ErrServerClosed) {
		return nil
	}
	return err
}

// Close ends all viewers and the port.
func (t *WebTransport) Close() {
	_ = t.server.Close()
	_ = t.udp.Close()
}

// About is what a player has to know of the port.
type About struct {
	Port int `json:"port"`
	// Hashes are those (SHA-256) of the certificates that it may have; none: it has one that browsers trust by itself.
	Hashes [][]byte `json:"hashes"`
}

// About tells of the port.
func (t *WebTransport) About() (About, error) {
	a := About{Port: t.Port, Hashes: [][]byte{}}
	if t.own != nil {
		hash, err := t.own.hash()
		if err != nil {
			return a, err
		}
		a.Hashes = append(a.Hashes, hash)
	}
	return a, nil
}

// ServeHTTP tells players of the port.
func (t *WebTransport) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	a, err := t.About()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Cache-Control", "no-store")
	h.Set("Access-Control-Allow-Origin", "*")
	_ = json.NewEncoder(w).Encode(a)
}

func (t *WebTransport) answer(w http.ResponseWriter, r *http.Request) {
	channel := chi.URLParam(r, "channel")
	leave, ok := t.s.Admit(w, r, channel, "webtransport")
	if !ok {
		return
	}
	defer leave()
	session, err := t.server.Upgrade(w, r)
	if err != nil {
		http.Error(w, "This address speaks WebTransport.", http.StatusBadRequest)
		return
	}
	ctx, cancel := context.WithTimeout(session.Context(), streamWithin)
	stream, err := session.AcceptStream(ctx)
	cancel()
	if err != nil {
		_ = session.CloseWithError(1, "no stream was opened")
		return
	}
	q := r.URL.Query()
	line := &transportLine{session: session, stream: stream, r: bufio.NewReader(stream)}
	t.s.Play(session.Context(), line, channel, q.Get("rung"), q.Get("sound"))
}

// transportLine is a Line.
type transportLine struct {
	session *webtransport.Session
	stream  *webtransport.Stream
	r       *bufio.Reader
	set     time.Time // when the end of writes was set
}

func (l *transportLine) frame(kind byte, b []byte) error {
	if now := time.Now(); now.Sub(l.set) > sendWithin/4 {
		l.set = now
		_ = l.stream.SetWriteDeadline(now.Add(sendWithin))
	}
	head := make([]byte, frameHead)
	binary.BigEndian.PutUint32(head, uint32(len(b)))
	head[4] = kind
	if _, err := l.stream.Write(head); err != nil {
		return err
	}
	_, err := l.stream.Write(b)
	return err
}

func (l *transportLine) Text(_ context.Context, b []byte) error { return l.frame(textFrame, b) }

func (l *transportLine) Binary(_ context.Context, list []message) error {
	for _, m := range list {
		if err := l.frame(binaryFrame, m.content()); err != nil {
			return err
		}
	}
	return nil
}

func (l *transportLine) Read(context.Context) ([]byte, error) {
	var head [frameHead]byte
	for {
		if _, err := io.ReadFull(l.r, head[:]); err != nil {
			return nil, err
		}
		n := binary.BigEndian.Uint32(head[:])
		if n > maxRequest {
			return nil, fmt.Errorf("found a message of %d bytes, expected %d at most", n, maxRequest)
		}
		b := make([]byte, n)
		if _, err := io.ReadFull(l.r, b); err != nil {
			return nil, err
		}
		if head[4] == textFrame {
			return b, nil
		}
	}
}

func (l *transportLine) Fail(err error) { l.Close(err.Error()) }

func (l *transportLine) Close(reason string) {
	_ = l.stream.Close()
	_ = l.session.CloseWithError(0, reason)
}

// ownCertificate makes certificates that browsers trust by their hash: of ECDSA, for less than two weeks (WebTransport,
// W3C, 6.9). Each is renewed long before its end.
type ownCertificate struct {
	now func() time.Time

	mu   sync.Mutex
	pair *tls.Certificate
	made time.Time
}

const (
	certificateLife  = 13 * 24 * time.Hour
	certificateRenew = 6 * 24 * time.Hour
)

// current returns the certificate of now.
func (c *ownCertificate) current() (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.now()
	if c.pair != nil && now.Sub(c.made) < certificateRenew {
		return c.pair, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	from := now.Add(-time.Hour) // clocks differ
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Metaplasis"}, NotBefore: from, NotAfter: from.Add(certificateLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	c.pair, c.made = &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, now
	return c.pair, nil
}

func (c *ownCertificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.current() }

func (c *ownCertificate) hash() ([]byte, error) {
	pair, err := c.current()
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(pair.Certificate[0])
	return sum[:], nil
}
