package network

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync/atomic"
	"syscall"
	"time"
)

// Outbound is where connections may lead whose address a user names: inputs, relays, hooks. Addresses of this machine,
// of the link and of a cloud's metadata are closed, unless they are opened: what listens there trusts who reaches it.
type Outbound struct{ open []netip.Prefix }

// errClosed says that a connection is not made, since its address is closed.
var errClosed = errors.New("connections to this address are closed; serve --outbound opens networks, such as 127.0.0.0/8")

// closed are the networks that are not connected to unless they are opened (IANA, IPv4 and IPv6 Special-Purpose Address
// Registries), with the addresses of clouds' metadata.
var closed = prefixes("0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "192.0.0.0/24", "100.100.100.200/32", "168.63.129.16/32", "240.0.0.0/4",
	"::/128", "::1/128", "fe80::/10", "fd00:ec2::/32", "::/96")

// carriers are networks whose addresses carry one of IPv4: at which bit it begins (RFC 6052, RFC 8215, RFC 3056).
var carriers = []struct {
	prefix netip.Prefix
	at     int // byte
}{{netip.MustParsePrefix("64:ff9b::/96"), 12}, {netip.MustParsePrefix("64:ff9b:1::/48"), 12}, {netip.MustParsePrefix("2002::/16"), 2}}

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// NewOutbound opens networks, such as 127.0.0.0/8, or single addresses, beside those that are open to all.
func NewOutbound(open []string) (*Outbound, error) {
	o := &Outbound{}
	for _, text := range open {
		p, err := netip.ParsePrefix(text)
		if ip, wrong := netip.ParseAddr(text); err != nil && wrong == nil {
			p, err = netip.PrefixFrom(ip, ip.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("found the network %.60q, expected one such as 127.0.0.0/8 or 192.0.2.7", text)
		}
		o.open = append(o.open, p.Masked())
	}
	return o, nil
}

// Carried returns the address of IPv4 that an address of IPv6 carries, and others as they are.
func Carried(ip netip.Addr) netip.Addr {
	ip = ip.Unmap().WithZone("")
	for _, c := range carriers {
		if c.prefix.Contains(ip) {
			b := ip.As16()
			return netip.AddrFrom4([4]byte(b[c.at : c.at+4]))
		}
	}
	return ip
}

// Allows reports whether connections to an address may be made; of none everything may.
func (o *Outbound) Allows(ip netip.Addr) bool {
	if o == nil {
		return true
	}
	ip = ip.Unmap().WithZone("")
	carried := Carried(ip)
	contains := func(list []netip.Prefix, ip netip.Addr) bool {
		for _, p := range list {
			if p.Contains(ip) {
				return true
			}
		}
		return false
	}
	if contains(o.open, carried) {
		return true
	}
	return !contains(closed, carried) && !contains(closed, ip)
}

// outbound is the policy of this process; nil allows everything, as for commands.
var outbound atomic.Pointer[Outbound]

// SetOutbound sets the policy of this process.
func SetOutbound(o *Outbound) { outbound.Store(o) }

// Dialer connects where the policy lets it: it looks at the address itself, wherever a name or a redirect leads.
func Dialer(timeout time.Duration) *net.Dialer {
	return &net.Dialer{Timeout: timeout, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return fmt.Errorf("the address %s: %w", address, err)
		}
		if !outbound.Load().Allows(at.Addr()) {
			return fmt.Errorf("%s: %w", at.Addr(), errClosed)
		}
		return nil
	}}
}

// Transport makes requests over HTTP through the policy. It uses no proxy: one would hide where they lead.
func Transport(timeout time.Duration) *http.Transport {
	return &http.Transport{DialContext: Dialer(timeout).DialContext, TLSHandshakeTimeout: timeout, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 8,
		IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: 64 << 10}
}

// Resolve returns the first address of host:port that the policy allows, for protocols that connect by themselves.
func Resolve(ctx context.Context, hostport string) (string, error) {
	host, port, err := net.SplitHostPort(hostport)
	if err != nil {
		return "", err
	}
	if outbound.Load() == nil {
		return hostport, nil
	}
	list, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return "", err
	}
	for _, ip := range list {
		if outbound.Load().Allows(ip) {
			return net.JoinHostPort(ip.Unmap().String(), port), nil
		}
	}
	return "", fmt.Errorf("%s: %w", host, errClosed)
}
