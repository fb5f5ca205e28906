package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/quic-go/quic-go"
	"github.com/quic-go/quic-go/http3"
	"github.com/quic-go/webtransport-go"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/protocol/srt"
	"metaplasis/internal/settings"
)

// received reads what a receiver is sent over HTTP, from an address of the n-th network, until it has so many bytes.
func (r *rig) received(n, bytes int) (time.Duration, error) {
	begin := time.Now()
	res, err := clientFrom(n).Get(r.http + "/media/" + slug + "/source.ts")
	if err != nil {
		return 0, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("it is answered by %s", res.Status)
	}
	_, err = io.CopyN(io.Discard, res.Body, int64(bytes))
	return time.Since(begin), err
}

// receiversThatPause asks for the transport stream from one network, more often than one network may receive, and for RTSP from
// others; nobody reads. Somebody of another network receives all the same.
func receiversThatPause(r *rig) (string, error) {
	host := strings.TrimPrefix(r.http, "http://")
	var mu sync.Mutex
	var open []net.Conn
	defer func() {
		mu.Lock()
		defer mu.Unlock()
		for _, c := range open {
			_ = c.Close()
		}
	}()
	pause := func(network int, address, say string) int {
		c, err := dialerFrom(network).Dial("tcp", address)
		if err != nil {
			return 0
		}
		mu.Lock()
		open = append(open, c)
		mu.Unlock()
		_ = c.(*net.TCPConn).SetReadBuffer(4 << 10)
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		if _, err := io.WriteString(c, say); err != nil {
			return 0
		}
		line, _ := bufio.NewReaderSize(c, 64).ReadString('\n')
		code := 0
		_, _ = fmt.Sscanf(line[min(len(line), strings.IndexByte(line+" ", ' ')):], "%d", &code)
		return code
	}
	over := crowd(700, func(int) int {
		return pause(7, host, "GET /media/"+slug+"/source.ts HTTP/1.1\r\nHost: "+host+"\r\n\r\n")
	})
	more := crowd(200, func(n int) int {
		return pause(100+n, r.rtsp, fmt.Sprintf("OPTIONS rtsp://%s/out/%s RTSP/1.0\r\nCSeq: 1\r\n\r\nDESCRIBE rtsp://%[1]s/out/%[2]s RTSP/1.0\r\nCSeq: 2\r\n\r\n"+
			"SETUP rtsp://%[1]s/out/%[2]s/track0 RTSP/1.0\r\nCSeq: 3\r\nTransport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\nPLAY rtsp://%[1]s/out/%[2]s RTSP/1.0\r\nCSeq: 4\r\n\r\n", r.rtsp, slug))
	})
	took, err := r.received(9, 200_000)
	if err != nil {
		return "", fmt.Errorf("a receiver of another network: %w", err)
	}
	if over[http.StatusOK] > 560 {
		err = fmt.Errorf("%d receivers of one network were let in", over[http.StatusOK])
	}
	return fmt.Sprintf("TS to one network: %v; RTSP: %v; another is served within %d ms", over, more, took.Milliseconds()), err
}

// manyQUIC holds connections over QUIC to a port, a few hundred of each network, and lets a function begin on each.
func manyQUIC(port string, networks, each int, conf *tls.Config, begin func(*quic.Conn)) (opened, refused int64, closeAll func()) {
	var in, out atomic.Int64
	to, err := net.ResolveUDPAddr("udp", port)
	if err != nil {
		return 0, 0, func() {}
	}
	var lines []*quic.Transport
	var all sync.WaitGroup
	for n := range networks {
		udp, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, byte(30+n), 1, 1)})
		if err != nil {
			continue
		}
		t := &quic.Transport{Conn: udp}
		lines = append(lines, t)
		slots := make(chan struct{}, 8)
		for range each {
			all.Go(func() {
				slots <- struct{}{}
				defer func() { <-slots }()
				ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
				defer cancel()
				c, err := t.Dial(ctx, to, conf.Clone(), &quic.Config{EnableDatagrams: true, EnableStreamResetPartialDelivery: true, KeepAlivePeriod: 5 * time.Second})
				if err != nil {
					out.Add(1)
					return
				}
				if begin != nil {
					begin(c)
				}
				select {
				case <-c.Context().Done(): // closed again at once
					out.Add(1)
				case <-time.After(50 * time.Millisecond):
					in.Add(1)
				}
			})
		}
	}
	all.Wait()
	return in.Load(), out.Load(), func() {
		for _, t := range lines {
			_ = t.Close()
			_ = t.Conn.Close()
		}
	}
}

// strangersHTTP3 holds connections over HTTP/3, more of one network than it may have, with bodies that never end and heads that
// are never finished. Somebody else reads a playlist over HTTP/3 beside them.
func strangersHTTP3(r *rig) (string, error) {
	if r.https == "" {
		return "", errors.New("the service has no HTTPS")
	}
	conf := &tls.Config{RootCAs: r.trusted, ServerName: "127.0.0.1", NextProtos: []string{http3.NextProtoH3}}
	in, out, closeAll := manyQUIC(r.https, 3, 600, conf, func(c *quic.Conn) {
		for n := range 4 {
			s, err := c.OpenStream()
			if err != nil {
				return
			}
			_ = s.SetWriteDeadline(time.Now().Add(time.Second))
			switch n % 2 {
			case 0: // a frame of headers that promises more than comes
				_, _ = s.Write([]byte{1, 0x60, 0, 0})
			case 1: // a frame that nobody knows, of a gigabyte
				_, _ = s.Write([]byte{0x21, 0x80 | 0x3f, 0xff, 0xff, 0xff, 0})
			}
		}
	})
	defer closeAll()
	begin := time.Now()
	t := &http3.Transport{TLSClientConfig: conf}
	defer func() { _ = t.Close() }()
	res, err := (&http.Client{Transport: t, Timeout: 5 * time.Second}).Get("https://" + r.https + "/media/" + slug + "/index.m3u8")
	if err != nil {
		return "", fmt.Errorf("somebody else over HTTP/3: %w", err)
	}
	_ = res.Body.Close()
	took := time.Since(begin)
	if in > 3*530 {
		err = fmt.Errorf("%d connections of three networks were let in", in)
	}
	return fmt.Sprintf("%d connections, %d refused; a playlist within %d ms", in, out, took.Milliseconds()), err
}

// strangersWebTransport holds sessions of WebTransport that read nothing. A viewer who means it gets a picture beside them.
//
//large:one attack, told from its begin to its end
func strangersWebTransport(r *rig) (string, error) {
	at := "https://" + r.https + "/socket/" + slug
	res, err := http.Get(r.http + "/socket/")
	if err != nil {
		return "", err
	}
	about, err := io.ReadAll(res.Body)
	_ = res.Body.Close()
	if err != nil {
		return "", err
	}
	var port int
	if _, err := fmt.Sscanf(string(about), `{"port":%d`, &port); err != nil {
		return "", fmt.Errorf("about WebTransport: %s", about)
	}
	where := fmt.Sprintf("127.0.0.1:%d", port)
	at = strings.Replace(at, r.https, where, 1)
	conf := &tls.Config{InsecureSkipVerify: true, NextProtos: []string{http3.NextProtoH3}} //nolint:gosec // browsers trust it by its hash
	open := func(ctx context.Context, from net.IP) (*webtransport.Stream, func(), error) {
		udp, err := net.ListenUDP("udp", &net.UDPAddr{IP: from})
		if err != nil {
			return nil, func() {}, err
		}
		line := &quic.Transport{Conn: udp}
		d := &webtransport.Transport{TLSClientConfig: conf, QUICConfig: &quic.Config{EnableDatagrams: true, EnableStreamResetPartialDelivery: true, KeepAlivePeriod: 5 * time.Second},
			DialAddr: func(ctx context.Context, addr string, t *tls.Config, q *quic.Config) (*quic.Conn, error) {
				to, err := net.ResolveUDPAddr("udp", addr)
				if err != nil {
					return nil, err
				}
				return line.DialEarly(ctx, to, t, q)
			}}
		end := func() { _ = d.Close(); _ = line.Close(); _ = udp.Close() }
		_, session, err := d.Dial(ctx, at, nil)
		if err != nil {
			return nil, end, err
		}
		s, err := session.OpenStreamSync(ctx)
		if err == nil {
			_, err = s.Write([]byte{0, 0, 0, 2, 0, '{', '}'})
		}
		return s, end, err
	}
	var held atomic.Int64
	var ends []func()
	var mu sync.Mutex
	crowd(150, func(n int) int {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_, end, err := open(ctx, net.IPv4(127, byte(40+n%3), 1, 1))
		mu.Lock()
		ends = append(ends, end)
		mu.Unlock()
		if err == nil {
			held.Add(1)
		}
		return 0
	})
	defer func() {
		for _, end := range ends {
			end()
		}
	}()
	begin := time.Now()
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Second)
	defer cancel()
	s, end, err := open(ctx, net.IPv4(127, 0, 0, 1))
	defer end()
	if err != nil {
		return "", fmt.Errorf("a viewer who means it: %w", err)
	}
	_ = s.SetReadDeadline(time.Now().Add(8 * time.Second))
	in := bufio.NewReader(s)
	for {
		var head [5]byte
		if _, err := io.ReadFull(in, head[:]); err != nil {
			return "", fmt.Errorf("a viewer who means it gets no picture: %w", err)
		}
		b := make([]byte, binary.BigEndian.Uint32(head[:]))
		if _, err := io.ReadFull(in, b); err != nil {
			return "", fmt.Errorf("a viewer who means it gets no picture: %w", err)
		}
		if head[4] == 1 && len(b) > 1 && b[0] == 2 && b[1] == 1 {
			break
		}
	}
	return fmt.Sprintf("%d sessions that read nothing; a viewer has a picture after %d ms", held.Load(), time.Since(begin).Milliseconds()), nil
}

// callersWithAKey calls over SRT with the key of a channel that somebody feeds already: as a sender and as a receiver, again and
// again, and without reading. Another camera gets in over SRT meanwhile.
func callersWithAKey(r *rig) (string, error) {
	const busy = "busy-caller"
	if _, err := r.api.CreateChannel(context.Background(), settings.Settings{Slug: busy, Access: settings.Access{Receivers: true}}); err != nil {
		return "", err
	}
	defer func() { _ = r.api.RemoveChannel(context.Background(), busy) }()
	k, err := r.api.CreateKey(context.Background(), busy, api.NewKey{})
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	defer func() { cancel(); all.Wait() }()
	all.Go(func() {
		for ctx.Err() == nil {
			_ = exec.CommandContext(ctx, "bin/metaplasis", "camera", "--loop", demo.Others[committee].Name, "--to", "srt://"+r.srt+"?streamid="+busy+"/"+k.Secret).Run()
		}
	})
	if err := r.await("the caller that feeds", 10*time.Second, func() bool {
		c, err := r.api.Channel(context.Background(), busy)
		return err == nil && c.Status.Feed != nil
	}); err != nil {
		return "", err
	}
	var senders, receivers atomic.Int64
	for n := range 40 {
		all.Go(func() {
			id, count := busy+"/"+k.Secret, &senders
			if n%2 == 1 {
				id, count = "request/"+busy+"/"+k.Secret, &receivers
			}
			u := &url.URL{Scheme: "srt", Host: r.srt, RawQuery: "streamid=" + url.QueryEscape(id)}
			for ctx.Err() == nil {
				own, stop := context.WithTimeout(ctx, 2*time.Second)
				if c, err := srt.Dial(own, u); err == nil {
					count.Add(1)
					<-own.Done()
					_ = c.Programme(1, busy).Close()
				} else {
					select {
					case <-own.Done():
					case <-time.After(100 * time.Millisecond):
					}
				}
				stop()
			}
		})
	}
	time.Sleep(r.last(6*time.Second, 3*time.Second))
	took, err := getsIn(r, "beside-key", committee, "", func(key string) string { return "srt://" + r.srt + "?streamid=beside-key/" + key })
	if c, e := r.api.Channel(context.Background(), busy); err == nil && (e != nil || c.Status.Feed == nil) {
		err = errors.New("the caller that fed the channel is gone")
	}
	return fmt.Sprintf("%d calls to send, %d to receive; a camera gets in after %d ms", senders.Load(), receivers.Load(), took.Milliseconds()), err
}
