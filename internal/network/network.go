// Package network holds what all listening ports share: who counts as one stranger, and listeners
// that survive the lack of descriptors and cap what strangers may open.
package network

import (
	"net/netip"
)

// Of names the network of a remote address, host:port or a bare address: its /24 for IPv4, its /64
// for IPv6. Limits count networks, since a stranger who has one address has its neighbours too. What
// is no address is its own network.
func Of(remote string) string {
	ap, err := netip.ParseAddrPort(remote)
	ip := ap.Addr()
	if err != nil {
		if ip, err = netip.ParseAddr(remote); err != nil {
			return remote
		}
	}
	return networkOf(ip).String()
}

// networkOf returns the network of an address.
func networkOf(ip netip.Addr) netip.Prefix {
	ip = ip.Unmap().WithZone("")
	bits := 64
	if ip.Is4() {
		bits = 24
	}
	p, _ := ip.Prefix(bits) // the length fits the family
	return p
}
