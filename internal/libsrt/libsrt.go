// Package libsrt is SRT (draft-sharabayko-srt) by libsrt: sockets that carry messages of live streams. In the service it
// runs in a process of its own, since C code reads what strangers send; see contribution/srt.
package libsrt

/*
#cgo pkg-config: srt
#include <srt/srt.h>
#include <srt/access_control.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <arpa/inet.h>

extern int mpCheck(uintptr_t handle, SRTSOCKET s, char *id, char *peer);

static int check(void *opaque, SRTSOCKET s, int version, const struct sockaddr *addr, const char *id) {
	char host[INET6_ADDRSTRLEN + 16] = "", peer[INET6_ADDRSTRLEN + 32] = "";
	if (addr->sa_family == AF_INET) {
		const struct sockaddr_in *a = (const struct sockaddr_in *)addr;
		inet_ntop(AF_INET, &a->sin_addr, host, sizeof host);
		snprintf(peer, sizeof peer, "%s:%d", host, ntohs(a->sin_port));
	} else if (addr->sa_family == AF_INET6) {
		const struct sockaddr_in6 *a = (const struct sockaddr_in6 *)addr;
		inet_ntop(AF_INET6, &a->sin6_addr, host, sizeof host);
		snprintf(peer, sizeof peer, "[%s]:%d", host, ntohs(a->sin6_port));
	}
	return mpCheck((uintptr_t)opaque, s, (char *)(id ? id : ""), peer);
}
static int set_check(SRTSOCKET s, uintptr_t handle) { return srt_listen_callback(s, check, (void *)handle); }
static int set_int(SRTSOCKET s, SRT_SOCKOPT o, int v) { return srt_setsockflag(s, o, &v, sizeof v); }
static int set_bool(SRTSOCKET s, SRT_SOCKOPT o, int v) { _Bool b = v; return srt_setsockflag(s, o, &b, sizeof b); }
static int set_long(SRTSOCKET s, SRT_SOCKOPT o, int64_t v) { return srt_setsockflag(s, o, &v, sizeof v); }
static int get_int(SRTSOCKET s, SRT_SOCKOPT o) { int v = 0, n = sizeof v; return srt_getsockflag(s, o, &v, &n) < 0 ? 0 : v; }
// Sets what sockaddr needs of an address; returns its length.
static int address(struct sockaddr_storage *out, const char *host, int port) {
	memset(out, 0, sizeof *out);
	struct sockaddr_in *a = (struct sockaddr_in *)out;
	struct sockaddr_in6 *b = (struct sockaddr_in6 *)out;
	if (inet_pton(AF_INET, host, &a->sin_addr) == 1) { a->sin_family = AF_INET; a->sin_port = htons(port); return sizeof *a; }
	if (inet_pton(AF_INET6, host, &b->sin6_addr) == 1) { b->sin6_family = AF_INET6; b->sin6_port = htons(port); return sizeof *b; }
	return 0;
}
static int do_bind(SRTSOCKET s, const char *host, int port) {
	struct sockaddr_storage a; int n = address(&a, host, port);
	return n ? srt_bind(s, (struct sockaddr *)&a, n) : -1;
}
static int do_connect(SRTSOCKET s, const char *host, int port) {
	struct sockaddr_storage a; int n = address(&a, host, port);
	return n ? srt_connect(s, (struct sockaddr *)&a, n) : -1;
}
static int do_rendezvous(SRTSOCKET s, const char *lhost, int lport, const char *host, int port) {
	struct sockaddr_storage a, b; int n = address(&a, lhost, lport), m = address(&b, host, port);
	return n && m ? srt_rendezvous(s, (struct sockaddr *)&a, n, (struct sockaddr *)&b, m) : -1;
}
static int last_port(SRTSOCKET s) {
	struct sockaddr_storage a; int n = sizeof a;
	if (srt_getsockname(s, (struct sockaddr *)&a, &n) < 0) return 0;
	return ntohs(a.ss_family == AF_INET6 ? ((struct sockaddr_in6 *)&a)->sin6_port : ((struct sockaddr_in *)&a)->sin_port);
}
// The library keeps its last error for each thread: it is read by the call that made it.
static int receive(SRTSOCKET s, char *b, int n, int *error) {
	int got = srt_recvmsg(s, b, n);
	if (got < 0) *error = srt_getlasterror(NULL);
	return got;
}
static int transmit(SRTSOCKET s, const char *b, int n, int *error) {
	int sent = srt_sendmsg(s, b, n, -1, 1);
	if (sent < 0) *error = srt_getlasterror(NULL);
	return sent;
}
static void quiet(void) { srt_setloglevel(0); }
*/
import "C"

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"runtime"
	"runtime/cgo"
	"sync"
	"time"
	"unsafe"
)

// Reasons to refuse, which the other side is told (draft-sharabayko-srt-access-control).
const (
	BadRequest   = C.SRT_REJX_BAD_REQUEST
	Unauthorized = C.SRT_REJX_UNAUTHORIZED
	Overload     = C.SRT_REJX_OVERLOAD
	Forbidden    = C.SRT_REJX_FORBIDDEN
	NotFound     = C.SRT_REJX_NOTFOUND
	BadMode      = C.SRT_REJX_BAD_MODE
	Conflict     = C.SRT_REJX_CONFLICT
)

// MessageSize is the most that one message of a live stream carries.
const MessageSize = 1456

// Options of a socket. The zero value of each takes the library's default.
type Options struct {
	Latency    time.Duration // 120 ms by default; the higher one of both sides holds
	Passphrase string        // 10 to 79 characters, "" for no encryption
	KeyLength  int           // 16, 24 or 32 bytes
	StreamID   string
	Overhead   int           // percent of the bitrate that retransmission may take beside it, 5 to 100
	KeepLate   bool          // do not drop what is too late
	Idle       time.Duration // without a sign of the other side until it counts as gone
	Connect    time.Duration // to wait for a connection
	Buffer     int           // bytes to receive into
}

// Decision on somebody who connects.
type Decision struct {
	Refuse     int // a reason, 0 to let in
	Passphrase string
	KeyLength  int
}

var startup sync.Once

func start() {
	startup.Do(func() {
		C.srt_startup()
		C.quiet()
	})
}

// failure is the library's last error of this thread: who calls it keeps to his thread.
func failure(what string) error {
	return fmt.Errorf("%s: %s", what, C.GoString(C.srt_getlasterror_str()))
}

func newSocket(o *Options) (C.SRTSOCKET, error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	start()
	s := C.srt_create_socket()
	if s < 0 {
		return s, failure("SRT socket")
	}
	set := func(err C.int, name string) error {
		if err < 0 {
			return failure("SRT option " + name)
		}
		return nil
	}
	ms := func(d time.Duration) C.int { return C.int(d.Milliseconds()) }
	var err error
	if o.Latency > 0 {
		err = errors.Join(err, set(C.set_int(s, C.SRTO_LATENCY, ms(o.Latency)), "latency"))
	}
	if o.KeyLength > 0 {
		err = errors.Join(err, set(C.set_int(s, C.SRTO_PBKEYLEN, C.int(o.KeyLength)), "key length"))
	}
	if o.Passphrase != "" {
		err = errors.Join(err, setText(s, C.SRTO_PASSPHRASE, o.Passphrase))
	}
	if o.StreamID != "" {
		err = errors.Join(err, setText(s, C.SRTO_STREAMID, o.StreamID))
	}
	if o.Overhead > 0 {
		err = errors.Join(err, set(C.set_int(s, C.SRTO_OHEADBW, C.int(o.Overhead)), "overhead"))
	}
	if o.KeepLate {
		err = errors.Join(err, set(C.set_bool(s, C.SRTO_TLPKTDROP, 0), "too-late drop"))
	}
	if o.Idle > 0 {
		err = errors.Join(err, set(C.set_int(s, C.SRTO_PEERIDLETIMEO, ms(o.Idle)), "idle time"))
	}
	if o.Connect > 0 {
		err = errors.Join(err, set(C.set_int(s, C.SRTO_CONNTIMEO, ms(o.Connect)), "connect time"))
	}
	if o.Buffer > 0 {
		_ = C.set_int(s, C.SRTO_UDP_RCVBUF, C.int(o.Buffer))
		_ = C.set_int(s, C.SRTO_FC, C.int(o.Buffer/MessageSize+1024))
		_ = C.set_int(s, C.SRTO_RCVBUF, C.int(o.Buffer))
	}
	err = errors.Join(err, set(C.set_int(s, C.SRTO_RCVTIMEO, receiveWait), "timeout"), set(C.set_int(s, C.SRTO_SNDTIMEO, sendWait), "timeout"),
		set(C.set_int(s, C.SRTO_PAYLOADSIZE, MessageSize), "payload size"))
	if err != nil {
		C.srt_close(s)
		return -1, err
	}
	return s, nil
}

// How long a call may wait, milliseconds.
const (
	receiveWait = 200
	sendWait    = 2000
)

func setText(s C.SRTSOCKET, option C.SRT_SOCKOPT, text string) error {
	t := C.CString(text)
	defer C.free(unsafe.Pointer(t))
	if C.srt_setsockflag(s, option, unsafe.Pointer(t), C.int(len(text))) < 0 {
		return failure("SRT option")
	}
	return nil
}

// split reads an address for C; a name is looked up.
func split(addr string) (host *C.char, port C.int, err error) {
	h, p, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, 0, err
	}
	n, err := net.LookupPort("udp", p)
	if err != nil {
		return nil, 0, err
	}
	if h == "" {
		h = "0.0.0.0"
	}
	ip, err := netip.ParseAddr(h)
	if err != nil {
		list, lookup := net.DefaultResolver.LookupNetIP(context.Background(), "ip", h)
		if lookup != nil || len(list) == 0 {
			return nil, 0, fmt.Errorf("the name %s is not known: %w", h, lookup)
		}
		ip = list[0]
	}
	return C.CString(ip.Unmap().String()), C.int(n), nil
}

// Listener waits for connections on a port.
type Listener struct {
	s      C.SRTSOCKET
	handle cgo.Handle
	once   sync.Once
}

type checker struct {
	check func(id, peer string) Decision
}

// Listen opens a port. check decides on each who connects; it runs on the library's thread that receives for the
// whole port, and must not wait.
func Listen(addr string, o Options, check func(id, peer string) Decision) (*Listener, error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	host, port, err := split(addr)
	if err != nil {
		return nil, err
	}
	defer C.free(unsafe.Pointer(host))
	s, err := newSocket(&o)
	if err != nil {
		return nil, err
	}
	// Who has no passphrase, or another one, is let in as far as it takes to say so; see Socket.Key.
	_ = C.set_bool(s, C.SRTO_ENFORCEDENCRYPTION, 0)
	l := &Listener{s: s}
	l.handle = cgo.NewHandle(&checker{check})
	if C.do_bind(s, host, port) < 0 || C.set_check(s, C.uintptr_t(l.handle)) < 0 || C.srt_listen(s, backlog) < 0 {
		err := failure("listening on " + addr)
		l.Close()
		return nil, err
	}
	return l, nil
}

// backlog is how many connections may wait to be accepted.
const backlog = 64

//export mpCheck
func mpCheck(handle C.uintptr_t, s C.SRTSOCKET, id, peer *C.char) C.int {
	c := cgo.Handle(handle).Value().(*checker)
	d := c.check(C.GoString(id), C.GoString(peer))
	if d.Refuse == 0 && d.Passphrase != "" {
		if d.KeyLength > 0 {
			C.set_int(s, C.SRTO_PBKEYLEN, C.int(d.KeyLength))
		}
		if setText(s, C.SRTO_PASSPHRASE, d.Passphrase) != nil {
			d.Refuse = BadRequest
		}
	}
	if d.Refuse != 0 {
		C.srt_setrejectreason(s, C.int(d.Refuse))
		return -1
	}
	return 0
}

// Port is the one in use.
func (l *Listener) Port() int { return int(C.last_port(l.s)) }

// Accept waits for a connection.
func (l *Listener) Accept() (*Socket, error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	var a C.struct_sockaddr_storage
	n := C.int(C.sizeof_struct_sockaddr_storage)
	s := C.srt_accept(l.s, (*C.struct_sockaddr)(unsafe.Pointer(&a)), &n)
	if s < 0 {
		return nil, failure("SRT accept")
	}
	return open(s), nil
}

// Close ends it.
func (l *Listener) Close() {
	l.once.Do(func() {
		C.srt_close(l.s)
		if l.handle != 0 {
			l.handle.Delete()
		}
	})
}

// Socket is one connection.
type Socket struct {
	s    C.SRTSOCKET
	Peer string
	ID   string // stream id
	once sync.Once
}

func open(s C.SRTSOCKET) *Socket {
	out := &Socket{s: s}
	var a C.struct_sockaddr_storage
	n := C.int(C.sizeof_struct_sockaddr_storage)
	if C.srt_getpeername(s, (*C.struct_sockaddr)(unsafe.Pointer(&a)), &n) >= 0 {
		out.Peer = peerOf(&a)
	}
	id := (*C.char)(C.calloc(1, 513))
	defer C.free(unsafe.Pointer(id))
	size := C.int(512)
	if C.srt_getsockflag(s, C.SRTO_STREAMID, unsafe.Pointer(id), &size) >= 0 {
		out.ID = C.GoString(id)
	}
	return out
}

func peerOf(a *C.struct_sockaddr_storage) string {
	if a.ss_family == C.AF_INET {
		v := (*C.struct_sockaddr_in)(unsafe.Pointer(a))
		ip := *(*[4]byte)(unsafe.Pointer(&v.sin_addr))
		return netip.AddrPortFrom(netip.AddrFrom4(ip), uint16(C.ntohs(v.sin_port))).String()
	}
	v := (*C.struct_sockaddr_in6)(unsafe.Pointer(a))
	ip := *(*[16]byte)(unsafe.Pointer(&v.sin6_addr))
	return netip.AddrPortFrom(netip.AddrFrom16(ip).Unmap(), uint16(C.ntohs(v.sin6_port))).String()
}

// Dial calls another side.
func Dial(addr string, o Options) (*Socket, error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	host, port, err := split(addr)
	if err != nil {
		return nil, err
	}
	defer C.free(unsafe.Pointer(host))
	s, err := newSocket(&o)
	if err != nil {
		return nil, err
	}
	if C.do_connect(s, host, port) < 0 {
		err := refusal(s, addr)
		C.srt_close(s)
		return nil, err
	}
	return open(s), nil
}

// Rendezvous meets another side that calls at the same time, from port to port.
func Rendezvous(local, remote string, o Options) (*Socket, error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	lhost, lport, err := split(local)
	if err != nil {
		return nil, err
	}
	defer C.free(unsafe.Pointer(lhost))
	host, port, err := split(remote)
	if err != nil {
		return nil, err
	}
	defer C.free(unsafe.Pointer(host))
	s, err := newSocket(&o)
	if err != nil {
		return nil, err
	}
	C.set_bool(s, C.SRTO_RENDEZVOUS, 1)
	if C.do_rendezvous(s, lhost, lport, host, port) < 0 {
		err := refusal(s, remote)
		C.srt_close(s)
		return nil, err
	}
	return open(s), nil
}

// RefusedError says that the other side does not take the connection, and by which reason.
type RefusedError struct {
	Reason int
	Text   string
}

func (e *RefusedError) Error() string { return e.Text }

var reasons = map[int]string{
	BadRequest: "it does not understand the stream id", Unauthorized: "the key is wrong", Overload: "it takes no more connections",
	Forbidden: "it does not let this address in", NotFound: "it has no such channel", BadMode: "it does not do what the stream id asks for",
	Conflict: "another sender is there", C.SRT_REJ_BADSECRET: "the passphrase is wrong", C.SRT_REJ_UNSECURE: "the passphrase is wrong, or one side alone has one",
}

func refusal(s C.SRTSOCKET, addr string) error {
	reason := int(C.srt_getrejectreason(s))
	if text := reasons[reason]; text != "" {
		return &RefusedError{reason, fmt.Sprintf("%s refused: %s", addr, text)}
	}
	if reason == C.SRT_REJ_TIMEOUT {
		return fmt.Errorf("%s does not answer", addr)
	}
	return failure("calling " + addr)
}

// ErrTimeout says that nothing came for a moment.
var ErrTimeout = errors.New("nothing came yet")

// Read takes one message. It returns ErrTimeout now and then while nothing comes.
func (c *Socket) Read(b []byte) (int, error) {
	var e C.int
	n := C.receive(c.s, (*C.char)(unsafe.Pointer(&b[0])), C.int(len(b)), &e)
	if n >= 0 {
		return int(n), nil
	}
	if e == C.SRT_ETIMEOUT || e == C.SRT_EASYNCRCV {
		return 0, ErrTimeout
	}
	return 0, errors.New("the other side is gone")
}

// Write sends one message, of MessageSize bytes at most.
func (c *Socket) Write(b []byte) error {
	var e C.int
	if C.transmit(c.s, (*C.char)(unsafe.Pointer(&b[0])), C.int(len(b)), &e) < 0 {
		if e == C.SRT_ETIMEOUT {
			return errors.New("the line is too slow: nothing could be sent for 2 s")
		}
		return errors.New("the other side is gone")
	}
	return nil
}

// Key says how the passphrases of both sides fit.
type Key int

// The ways in which they do.
const (
	KeyNone    Key = iota // neither side has one
	KeyPending            // it is being agreed on
	KeyGood
	KeyMissing // the other side encrypts, and this one has none
	KeyWrong
)

// Key tells it of a connection to a Listener, which takes it whatever the passphrase is: who accepts must close what is not
// good.
func (c *Socket) Key() Key {
	switch C.get_int(c.s, C.SRTO_KMSTATE) {
	case C.SRT_KM_S_SECURED:
		return KeyGood
	case C.SRT_KM_S_SECURING:
		return KeyPending
	case C.SRT_KM_S_NOSECRET:
		return KeyMissing
	case C.SRT_KM_S_BADSECRET:
		return KeyWrong
	}
	return KeyNone
}

// Close ends the connection.
func (c *Socket) Close() { c.once.Do(func() { C.srt_close(c.s) }) }

// Stats are the library's counts of a connection.
type Stats struct {
	RTT                            time.Duration
	Received, Sent                 int64 // packets
	Lost, SentLost                 int64
	Retransmitted                  int64 // received, since the last call
	Dropped                        int64 // too late, as a receiver
	SentRetransmitted, SentDropped int64
	Undecrypted                    int64
	ReceiveBuffer, SendBuffer      time.Duration
	Latency                        time.Duration
	Bandwidth                      int64 // bits per second
	ReceiveRate, SendRate          int64 // bits per second
	Encrypted                      bool
	Version                        string
}

// Stats reads the counts.
func (c *Socket) Stats() (out Stats, ok bool) {
	var m C.SRT_TRACEBSTATS
	if C.srt_bistats(c.s, &m, 1, 1) < 0 {
		return out, false
	}
	ms := func(v C.int) time.Duration { return time.Duration(v) * time.Millisecond }
	out = Stats{
		RTT: time.Duration(float64(m.msRTT) * float64(time.Millisecond)), Received: int64(m.pktRecvTotal), Sent: int64(m.pktSentTotal),
		Lost: int64(m.pktRcvLossTotal), SentLost: int64(m.pktSndLossTotal), Retransmitted: int64(m.pktRcvRetrans), Dropped: int64(m.pktRcvDropTotal),
		SentRetransmitted: int64(m.pktRetransTotal), SentDropped: int64(m.pktSndDropTotal), Undecrypted: int64(m.pktRcvUndecryptTotal),
		ReceiveBuffer: ms(m.msRcvBuf), SendBuffer: ms(m.msSndBuf), Latency: ms(max(m.msRcvTsbPdDelay, 0)), Bandwidth: int64(float64(m.mbpsBandwidth) * 1e6),
		ReceiveRate: int64(float64(m.mbpsRecvRate) * 1e6), SendRate: int64(float64(m.mbpsSendRate) * 1e6),
	}
	out.Encrypted = C.get_int(c.s, C.SRTO_RCVKMSTATE) == C.SRT_KM_S_SECURED || C.get_int(c.s, C.SRTO_SNDKMSTATE) == C.SRT_KM_S_SECURED
	v := int(C.get_int(c.s, C.SRTO_PEERVERSION))
	out.Version = fmt.Sprintf("%d.%d.%d", v>>16&0xff, v>>8&0xff, v&0xff)
	return out, true
}
