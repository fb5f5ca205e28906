// Package sap reads and writes session announcements (RFC 2974): who sends to a multicast group says so to all, with a
// session description, again and again.
//
//	version(3)=1 IPv6(1) reserved(1) deletion(1) encrypted(1) compressed(1)
//	words of authentication(8) hash of the message(16) sender(32 or 128) authentication
//	[type of the payload, up to a 0] payload
package sap

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"net/netip"

	"metaplasis/internal/core/media"
)

// Port is where announcements are sent to.
const Port = 9875

// Groups are where announcements of a scope are sent to: of the site and the organisation (RFC 2365), and of all.
var Groups = []netip.Addr{netip.AddrFrom4([4]byte{239, 255, 255, 255}), netip.AddrFrom4([4]byte{239, 195, 255, 255}), netip.AddrFrom4([4]byte{224, 2, 127, 254})}

// MaxDescription bounds a session description, in bytes.
//
//limit:bytes of a session description | each announcement | it is left out
const MaxDescription = 8 << 10

// Announcement is one packet.
type Announcement struct {
	Deleted     bool
	Hash        uint16
	Sender      netip.Addr
	Description []byte
}

const descriptionType = "application/sdp"

func broken(found, want string) error {
	return &media.FormatError{Format: "session announcement", Found: found, Want: want}
}

// Unmarshal reads a packet.
func (a *Announcement) Unmarshal(b []byte) error {
	if len(b) < 8 {
		return broken(fmt.Sprintf("%d bytes", len(b)), "8 at least")
	}
	flags := b[0]
	if flags>>5 != 1 {
		return broken(fmt.Sprintf("version %d", flags>>5), "1")
	}
	if flags&2 != 0 {
		return &media.UnsupportedError{Format: "session announcement", What: "encryption", Do: "announce in the clear"}
	}
	*a = Announcement{Deleted: flags&4 != 0, Hash: binary.BigEndian.Uint16(b[2:])}
	size := 4
	if flags&0x10 != 0 {
		size = 16
	}
	at := 4 + size + 4*int(b[1])
	if len(b) < at {
		return broken(fmt.Sprintf("%d bytes", len(b)), fmt.Sprintf("a header of %d", at))
	}
	a.Sender, _ = netip.AddrFromSlice(b[4 : 4+size])
	body := b[at:]
	if flags&1 != 0 {
		r, err := zlib.NewReader(bytes.NewReader(body))
		if err != nil {
			return broken("a payload that cannot be decompressed", "one of zlib")
		}
		if body, err = io.ReadAll(io.LimitReader(r, MaxDescription+64)); err != nil {
			return broken("a payload that cannot be decompressed", "one of zlib")
		}
	}
	if kind, rest, ok := bytes.Cut(body, []byte{0}); ok && !bytes.HasPrefix(body, []byte("v=0")) {
		if string(kind) != descriptionType {
			return &media.UnsupportedError{Format: "session announcement", What: fmt.Sprintf("a payload of the type %.40q", kind), Do: "announce a session description"}
		}
		body = rest
	}
	if len(body) > MaxDescription {
		return broken(fmt.Sprintf("a description of %d bytes", len(body)), fmt.Sprintf("%d at most", MaxDescription))
	}
	a.Description = bytes.Clone(body)
	return nil
}

// Marshal writes a packet. Without a hash it gets that of the description.
func (a *Announcement) Marshal() []byte {
	flags := byte(1 << 5)
	if a.Sender.Is6() {
		flags |= 0x10
	}
	if a.Deleted {
		flags |= 4
	}
	if a.Hash == 0 {
		a.Hash = uint16(crc32.ChecksumIEEE(a.Description)) | 1 // 0 is for nobody
	}
	b := append([]byte{flags, 0}, byte(a.Hash>>8), byte(a.Hash))
	b = append(b, a.Sender.AsSlice()...)
	b = append(append(b, descriptionType...), 0)
	return append(b, a.Description...)
}
