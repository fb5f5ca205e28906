// Package dnssd finds services on a network, and announces one, by DNS-based service discovery (RFC 6763) over multicast
// DNS (RFC 6762), IPv4.
package dnssd

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/net/ipv4"

	"metaplasis/internal/network/udp"
)

// Instance is one service.
type Instance struct {
	Name string // for people
	Host netip.Addr
	Port int
	Text map[string]string
	Gone bool // it said good-bye
}

// Bounds.
const (
	//limit:instances that are known | each kind of service | further ones are left out
	maxInstances = 256
	//limit:bytes of an instance | each instance | it is left out
	maxText    = 1 << 10 // bytes of an instance
	firstAsk   = time.Second
	lastAsk    = 30 * time.Second
	lookEach   = 100 * time.Millisecond
	answerEach = 100 * time.Millisecond
	ttl        = 120 // seconds
	flush      = 1 << 15
)

var group = netip.AddrPortFrom(netip.AddrFrom4([4]byte{224, 0, 0, 251}), 5353)

// socket is the port of multicast DNS on an interface.
type socket struct {
	conn   *net.UDPConn
	reader *udp.Reader
}

func open(face string) (*socket, error) {
	i, err := net.InterfaceByName(face)
	if err != nil {
		return nil, fmt.Errorf("there is no network interface %q", face)
	}
	conn, err := udp.Listen(&url.URL{Host: group.String(), RawQuery: url.Values{"interface": {face}}.Encode()})
	if err != nil {
		return nil, err
	}
	p := ipv4.NewPacketConn(conn)
	if err = p.SetMulticastInterface(i); err == nil {
		err = p.SetMulticastLoopback(true)
	}
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	_ = p.SetMulticastTTL(255)
	return &socket{conn, udp.NewReader(conn, 8)}, nil
}

func (s *socket) send(m *dns.Msg) error {
	b, err := m.Pack()
	if err == nil {
		_, err = s.conn.WriteToUDPAddrPort(b, group)
	}
	return err
}

// read hands over the messages that come within a while.
func (s *socket) read(take func(m *dns.Msg)) error {
	return s.reader.Read(lookEach, func(b []byte, _ netip.Addr) {
		m := &dns.Msg{}
		if m.Unpack(b) == nil {
			take(m)
		}
	})
}

// Browse looks for services of a kind such as _rtsp._tcp on an interface until the context ends, and tells of each that
// is complete, again and again as it is heard of.
func Browse(ctx context.Context, face, kind string, found func(Instance)) error {
	s, err := open(face)
	if err != nil {
		return err
	}
	defer func() { _ = s.conn.Close() }()
	b := &browser{kind: kind + ".local.", instances: map[string]*Instance{}, targets: map[string]string{}, hosts: map[string]netip.Addr{}}
	pause, ask := firstAsk, time.Now()
	for ctx.Err() == nil {
		if now := time.Now(); !now.Before(ask) {
			if err := s.send(b.question()); err != nil {
				return err
			}
			ask, pause = now.Add(pause), min(2*pause, lastAsk)
		}
		if err := s.read(func(m *dns.Msg) { b.handle(m, found) }); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// browser puts what it hears of together.
type browser struct {
	kind      string
	instances map[string]*Instance // by their full name
	targets   map[string]string    // their hosts' names
	hosts     map[string]netip.Addr
}

// question asks for all services of the kind, and for what is missing of those that are known.
func (b *browser) question() *dns.Msg {
	m := &dns.Msg{}
	m.Question = []dns.Question{{Name: b.kind, Qtype: dns.TypePTR, Qclass: dns.ClassINET}}
	for name, i := range b.instances {
		if len(m.Question) >= 16 {
			break
		}
		if i.Port == 0 || i.Text == nil {
			m.Question = append(m.Question, dns.Question{Name: name, Qtype: dns.TypeANY, Qclass: dns.ClassINET})
		} else if !b.hosts[b.targets[name]].IsValid() {
			m.Question = append(m.Question, dns.Question{Name: b.targets[name], Qtype: dns.TypeA, Qclass: dns.ClassINET})
		}
	}
	return m
}

func (b *browser) handle(m *dns.Msg, found func(Instance)) {
	if !m.Response {
		return
	}
	touched := map[string]bool{}
	for _, rr := range append(m.Answer, m.Extra...) {
		name := strings.ToLower(rr.Header().Name)
		switch r := rr.(type) {
		case *dns.PTR:
			if name != strings.ToLower(b.kind) {
				continue
			}
			if i := b.instance(r.Ptr); i != nil {
				i.Gone = r.Hdr.Ttl == 0
				touched[r.Ptr] = true
			}
		case *dns.SRV:
			if i := b.instance(rr.Header().Name); i != nil {
				i.Port, b.targets[rr.Header().Name] = int(r.Port), strings.ToLower(r.Target)
				touched[rr.Header().Name] = true
			}
		case *dns.TXT:
			if i := b.instance(rr.Header().Name); i != nil {
				i.Text = texts(r.Txt)
				touched[rr.Header().Name] = true
			}
		case *dns.A:
			if a, ok := netip.AddrFromSlice(r.A.To4()); ok && (len(b.hosts) < maxInstances || b.hosts[name].IsValid()) {
				b.hosts[name] = a
				for full, target := range b.targets {
					if target == name {
						touched[full] = true
					}
				}
			}
		}
	}
	for full := range touched {
		i := b.instances[full]
		i.Host = b.hosts[b.targets[full]]
		if i.Gone || i.Host.IsValid() && i.Port != 0 && i.Text != nil {
			found(*i)
		}
		if i.Gone {
			delete(b.instances, full)
			delete(b.targets, full)
		}
	}
}

// instance finds one by its full name, or notes it; nil when it is of another kind, or there are too many.
func (b *browser) instance(full string) *Instance {
	if i := b.instances[full]; i != nil {
		return i
	}
	suffix := len(full) - len(b.kind)
	if suffix < 2 || !strings.EqualFold(full[suffix:], b.kind) || len(b.instances) >= maxInstances {
		return nil
	}
	i := &Instance{Name: unescape(full[:suffix-1])}
	b.instances[full] = i
	return i
}

// texts reads key=value pairs (RFC 6763, 6.3).
func texts(list []string) map[string]string {
	out, size := map[string]string{}, 0
	for _, t := range list {
		if size += len(t); size > maxText {
			break
		}
		key, value, _ := strings.Cut(t, "=")
		out[strings.ToLower(key)] = unescape(value)
	}
	return out
}

// unescape reads a label as the library writes it: \. and \DDD.
func unescape(label string) string {
	var out []byte
	for i := 0; i < len(label); i++ {
		if label[i] != '\\' || i+1 >= len(label) {
			out = append(out, label[i])
			continue
		}
		var n byte
		if _, err := fmt.Sscanf(label[i+1:min(i+4, len(label))], "%3d", &n); err == nil && i+3 < len(label) && label[i+1] >= '0' && label[i+1] <= '2' {
			out = append(out, n)
			i += 3
			continue
		}
		i++
		out = append(out, label[i])
	}
	return string(out)
}

func escape(label string) string {
	return strings.NewReplacer(`\`, `\\`, ".", `\.`, " ", `\ `, `"`, `\"`, "(", `\(`, ")", `\)`, ";", `\;`, "@", `\@`, "$", `\$`).Replace(label)
}

// Announce answers for a service of a kind on an interface until the context ends, and then says good-bye.
func Announce(ctx context.Context, face, kind string, of Instance) error {
	s, err := open(face)
	if err != nil {
		return err
	}
	defer func() { _ = s.conn.Close() }()
	kind += ".local."
	full := escape(of.Name) + "." + kind
	host := strings.ReplaceAll(of.Host.String(), ".", "-") + ".local."
	records := func(ttl uint32) *dns.Msg {
		head := func(name string, of uint16, class uint16) dns.RR_Header {
			return dns.RR_Header{Name: name, Rrtype: of, Class: dns.ClassINET | class, Ttl: ttl}
		}
		m := &dns.Msg{}
		m.Response, m.Authoritative = true, true
		text := []string{}
		for k, v := range of.Text {
			text = append(text, k+"="+v)
		}
		m.Answer = []dns.RR{&dns.PTR{Hdr: head(kind, dns.TypePTR, 0), Ptr: full}}
		m.Extra = []dns.RR{&dns.SRV{Hdr: head(full, dns.TypeSRV, flush), Port: uint16(of.Port), Target: host},
			&dns.TXT{Hdr: head(full, dns.TypeTXT, flush), Txt: text}, &dns.A{Hdr: head(host, dns.TypeA, flush), A: net.IP(of.Host.AsSlice())}}
		return m
	}
	if err := s.send(records(ttl)); err != nil {
		return err
	}
	last := time.Now()
	for ctx.Err() == nil {
		asked := false
		err := s.read(func(m *dns.Msg) {
			for _, q := range m.Question {
				if name := strings.ToLower(q.Name); !m.Response && (name == strings.ToLower(kind) || name == strings.ToLower(full) || name == host) {
					asked = true
				}
			}
		})
		if err != nil {
			return err
		}
		if asked && time.Since(last) > answerEach {
			last = time.Now()
			if err := s.send(records(ttl)); err != nil {
				return err
			}
		}
	}
	_ = s.send(records(0))
	return ctx.Err()
}
