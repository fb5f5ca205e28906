package studio

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"image"
	"image/jpeg"
	"math/rand/v2"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/net/ipv4"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/rawvideo"
	"metaplasis/internal/core/sap"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/network/udp"
	"metaplasis/internal/onward/rtpmedia"
)

// Forms of the pictures.
const (
	raw8  = "raw"
	raw10 = "raw10"
	still = "jpeg"
)

const (
	// mostPayload is how many bytes a packet carries, so that it fits an Ethernet frame.
	//limit:bytes of a packet | each packet | another packet begins
	mostPayload = 1428
	batch       = 32 // packets that are handed to the system at once
	// spread is the share of a picture's time in which its packets leave, in percent: evenly, as studio devices do it.
	spread        = 70
	waiting       = 4 // pictures that wait to be sent
	announceEach  = 5 * time.Second
	announceFirst = time.Second
	firstAnnounce = 3 // announcements that follow faster
	soundPacket   = 48
	soundType     = 97
	pictureType   = 96
	quality       = 85
)

// Sender sends one source.
type Sender struct {
	name   string
	form   string
	group  netip.Addr
	port   int
	own    netip.Addr
	video  *net.UDPConn
	sound  *net.UDPConn
	tell   *net.UDPConn
	begun  time.Time
	failed chan error
	stop   context.CancelFunc
	over   <-chan struct{}
	all    sync.WaitGroup
	queue  chan picturePackets

	rate     int64 // that the loop tells, thousandths a second
	tracks   map[media.TrackID]*track
	mu       sync.Mutex
	videoSDP string
	soundSDP string
}

// track is one that is decoded.
type track struct {
	media.Track
	pictures codec.PictureDecoder
	samples  codec.SoundDecoder
	rate     int // of the sound
	channels int
	scaler   scale.Scaler
	pic      *picture.Picture
	format   rawvideo.Format
	ready    []frame // in presentation order, until no earlier one can come
	sequence uint32
	ssrc     uint32
	pending  []byte // linear samples, until they fill a packet
	next     int64  // time of the first of them in samples, -1 before any
}

type frame struct {
	pts  int64
	data []byte
}

// picturePackets is a picture that is to be sent.
type picturePackets struct {
	t     *track
	frame frame
}

// Dial sends to studio://GROUP:PORT?interface=eth0&name=Start+line&format=raw. Formats are raw and raw10 (4:2:2 of 8 and
// of 10 bits) and jpeg. The sound goes to the port above that of RTCP.
func Dial(ctx context.Context, u *url.URL) (*Sender, error) {
	q := u.Query()
	group, err := netip.ParseAddr(u.Hostname())
	port, wrong := strconv.Atoi(u.Port())
	if err != nil || wrong != nil || !group.IsMulticast() || port > 65530 {
		return nil, &media.FormatError{Format: "address to send to", Found: u.Host, Want: "a multicast group and a port, such as studio://239.20.1.1:5004?interface=eth0"}
	}
	s := &Sender{name: cmp.Or(q.Get("name"), "Camera"), form: cmp.Or(q.Get("format"), raw8), group: group, port: port, begun: time.Now(), failed: make(chan error, 1),
		tracks: map[media.TrackID]*track{}, queue: make(chan picturePackets, waiting)}
	if !slices.Contains([]string{raw8, raw10, still}, s.form) {
		return nil, &media.FormatError{Format: "address to send to", Found: fmt.Sprintf("format=%s", s.form), Want: "raw, raw10 or jpeg"}
	}
	face := url.Values{"interface": {q.Get("interface")}, "ttl": {cmp.Or(q.Get("ttl"), "1")}}
	dial := func(host netip.Addr, port int) *net.UDPConn {
		c, e := udp.Dial(ctx, &url.URL{Host: netip.AddrPortFrom(host, uint16(port)).String(), RawQuery: face.Encode()})
		err = cmp.Or(err, e)
		return c
	}
	s.video, s.sound, s.tell = dial(group, port), dial(group, port+2), dial(sap.Groups[0], sap.Port)
	if err != nil {
		s.shut()
		return nil, err
	}
	s.own = s.video.LocalAddr().(*net.UDPAddr).AddrPort().Addr().Unmap()
	ctx, s.stop = context.WithCancel(ctx)
	s.over = ctx.Done()
	s.all.Go(func() { s.pictures(ctx) })
	s.all.Go(func() { s.announce(ctx) })
	return s, nil
}

func (s *Sender) shut() {
	for _, c := range []*net.UDPConn{s.video, s.sound, s.tell} {
		if c != nil {
			_ = c.Close()
		}
	}
}

// FrameRate implements onward.Sender.
func (s *Sender) FrameRate(milli int64) { s.rate = milli }

// Track implements onward.Sender.
func (s *Sender) Track(t media.Track) {
	for _, o := range s.tracks {
		if o.Kind == t.Kind {
			return // one of each
		}
	}
	if !t.FrameRate.Valid() && s.rate > 0 {
		t.FrameRate = timeline.SnapRate(s.rate)
	}
	own := &track{Track: t, ssrc: rand.Uint32(), sequence: rand.Uint32() >> 8, next: -1}
	var err error
	if t.Kind == media.Video {
		own.pictures, err = codec.NewPictureDecoder(&t)
	} else {
		own.samples, err = codec.NewSoundDecoder(&t)
	}
	if err != nil {
		s.fail(err)
		return
	}
	s.tracks[t.ID] = own
}

func (s *Sender) fail(err error) {
	select {
	case s.failed <- err:
	default:
	}
}

// Unit implements onward.Sender.
func (s *Sender) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	t := s.tracks[id]
	if t == nil {
		return
	}
	at := t.Stamps().Ticks(stamp)
	var err error
	if t.Kind == media.Video {
		u := &media.AccessUnit{DTS: at, PTS: at + t.Stamps().Ticks(composition), Key: key, Data: data}
		if err = t.pictures.Decode(u, func(f *picture.Frame) { err = cmp.Or(err, s.shown(t, f)) }); err == nil {
			s.release(t, at)
		}
	} else {
		err = s.heard(t, at, data)
	}
	if err != nil {
		s.fail(err)
	}
}

// shown takes a picture in, in its place.
func (s *Sender) shown(t *track, f *picture.Frame) error {
	if t.pic == nil {
		t.pic = picture.New(f.Width, f.Height)
		t.format = rawvideo.Format{Width: f.Width, Height: f.Height, Depth: 8, Rate: t.FrameRate, Colour: media.Colour{Primaries: 1, Transfer: 1, Matrix: 1}}
		if s.form == raw10 {
			t.format.Depth = 10
		}
		s.describePictures(t)
	}
	if err := t.scaler.FromFrame(t.pic, f); err != nil {
		return err
	}
	out := frame{pts: f.PTS}
	if s.form == still {
		img := &image.YCbCr{Y: t.pic.Y, Cb: t.pic.U, Cr: t.pic.V, YStride: t.pic.StrideY, CStride: t.pic.Stride, SubsampleRatio: image.YCbCrSubsampleRatio420,
			Rect: image.Rect(0, 0, t.pic.Width, t.pic.Height)}
		var b bytes.Buffer
		if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: quality}); err != nil {
			return err
		}
		out.data = b.Bytes()
	} else {
		out.data = t.format.Append(make([]byte, 0, t.format.PictureBytes()), t.pic)
	}
	at := len(t.ready)
	for at > 0 && t.ready[at-1].pts > out.pts {
		at--
	}
	t.ready = slices.Insert(t.ready, at, out)
	return nil
}

// release sends the pictures before which no other can come.
func (s *Sender) release(t *track, dts int64) {
	for len(t.ready) > 0 && t.ready[0].pts <= dts {
		select {
		case s.queue <- picturePackets{t, t.ready[0]}:
		case <-s.over:
			return
		}
		t.ready = t.ready[1:]
	}
}

// stamp is the time of a clock of all streams of the source (RFC 7273, 5.2): ticks since 1970.
func (s *Sender) stamp(ticks, clock int64) uint32 {
	return uint32(media.Rescale(s.begun.UnixNano()/1000, 1_000_000, clock) + media.Rescale(ticks, media.VideoTimescale, clock))
}

// pictures sends the pictures.
func (s *Sender) pictures(ctx context.Context) {
	var stills *rtpmedia.Stream
	out := &burst{conn: ipv4.NewPacketConn(s.video)}
	for {
		select {
		case <-ctx.Done():
			return
		case p := <-s.queue:
			out.head = header{kind: pictureType, stamp: s.stamp(p.frame.pts, media.VideoTimescale), ssrc: p.t.ssrc, sequence: p.t.sequence}
			if s.form == still {
				if stills == nil {
					stills, _ = rtpmedia.New(coding.Still(p.t.Width, p.t.Height), pictureType, s.begun)
				}
				for _, pk := range stills.Packets(p.frame.pts, true, p.frame.data) {
					out.add(pk.Payload, pk.Marker)
				}
			} else {
				rtpmedia.RawPackets(&p.t.format, p.frame.data, p.t.sequence, mostPayload, out.add)
			}
			p.t.sequence = out.head.sequence
			lasts := time.Second / 30
			if r := p.t.FrameRate; r.Valid() {
				lasts = time.Duration(r.Period(int64(time.Second)))
			}
			if err := out.send(lasts * spread / 100); err != nil {
				s.fail(err)
				s.stop()
				return
			}
		}
	}
}

// heard sends sound.
func (s *Sender) heard(t *track, at int64, data []byte) error {
	samples, err := t.samples.Decode(data)
	if err != nil || len(samples) == 0 {
		return err
	}
	if t.rate == 0 {
		t.rate, t.channels = t.samples.Format()
		s.describeSound(t)
	}
	from := media.Rescale(at, media.VideoTimescale, int64(t.rate))
	if ends := t.next + int64(len(t.pending)/(3*t.channels)); t.next < 0 || from > ends+int64(t.rate)/10 || from < ends-int64(t.rate)/10 {
		t.next, t.pending = from, nil
	}
	for _, v := range samples {
		t.pending = append(t.pending, byte(v>>8), byte(v), 0)
	}
	size := soundPacket * 3 * t.channels
	b := make([]byte, rtpHead+size)
	for len(t.pending) >= size {
		stamp := uint32(media.Rescale(s.begun.UnixNano()/1000, 1_000_000, int64(t.rate)) + t.next)
		h := header{kind: soundType, stamp: stamp, ssrc: t.ssrc, sequence: t.sequence}
		h.write(b, false)
		copy(b[rtpHead:], t.pending[:size])
		if _, err := s.sound.Write(b); err != nil {
			return err
		}
		t.sequence, t.next, t.pending = t.sequence+1, t.next+soundPacket, t.pending[size:]
	}
	return nil
}

// Cue implements onward.Sender.
func (s *Sender) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (s *Sender) Flush() error { return nil }

// Failed implements onward.Sender.
func (s *Sender) Failed() <-chan error { return s.failed }

// Close implements onward.Sender: it takes its announcement back.
func (s *Sender) Close() error {
	s.stop()
	s.all.Wait()
	a := &sap.Announcement{Deleted: true, Sender: s.own, Description: []byte("v=0\r\n" + s.origin())}
	_, _ = s.tell.Write(a.Marshal())
	s.shut()
	for _, t := range s.tracks {
		if t.pictures != nil {
			t.pictures.Close()
		} else {
			t.samples.Close()
		}
	}
	return nil
}

// origin is who sends, and which of its sessions.
func (s *Sender) origin() string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(s.name))
	return fmt.Sprintf("o=- %d %d IN IP4 %s\r\n", h.Sum32(), s.begun.Unix(), s.own)
}

// describePictures and describeSound write the parts of the session description.
func (s *Sender) describePictures(t *track) {
	format := fmt.Sprintf("raw/90000\r\na=fmtp:%d %s", pictureType, t.format.Parameters())
	if s.form == still {
		format = "JPEG/90000"
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.videoSDP = fmt.Sprintf("m=video %d RTP/AVP %d\r\na=rtpmap:%d %s\r\n", s.port, pictureType, pictureType, format) + s.clock()
}

func (s *Sender) describeSound(t *track) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.soundSDP = fmt.Sprintf("m=audio %d RTP/AVP %d\r\na=rtpmap:%d L24/%d/%d\r\na=ptime:1\r\n", s.port+2, soundType, soundType, t.rate, t.channels) + s.clock()
}

func (s *Sender) clock() string {
	return fmt.Sprintf("a=source-filter: incl IN IP4 %s %s\r\na=ts-refclk:local\r\na=mediaclk:direct=0\r\n", s.group, s.own)
}

// announce tells of the source, once it is known whole.
func (s *Sender) announce(ctx context.Context) {
	pause := announceFirst / 2
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		s.mu.Lock()
		streams := s.videoSDP + s.soundSDP
		s.mu.Unlock()
		if streams == "" {
			continue
		}
		if pause = announceFirst; n > firstAnnounce {
			pause = announceEach
		}
		text := fmt.Sprintf("v=0\r\n%ss=%s\r\nc=IN IP4 %s/%d\r\nt=0 0\r\n%s", s.origin(), s.name, s.group, 1, streams)
		a := &sap.Announcement{Sender: s.own, Description: []byte(text)}
		if _, err := s.tell.Write(a.Marshal()); err != nil {
			s.fail(err)
			return
		}
	}
}

const rtpHead = 12

// header is that of a packet of RTP (RFC 3550, 5.1).
type header struct {
	kind     byte
	sequence uint32 // of which a packet has the lower 16 bits
	stamp    uint32
	ssrc     uint32
}

func (h *header) write(b []byte, last bool) {
	b[0], b[1] = 0x80, h.kind
	if last {
		b[1] |= 0x80
	}
	binary.BigEndian.PutUint16(b[2:], uint16(h.sequence))
	binary.BigEndian.PutUint32(b[4:], h.stamp)
	binary.BigEndian.PutUint32(b[8:], h.ssrc)
}

// burst holds the packets of a picture, and sends them evenly.
type burst struct {
	conn     *ipv4.PacketConn
	head     header
	bytes    []byte
	ends     []int
	messages []ipv4.Message
}

func (b *burst) add(payload []byte, last bool) {
	at := len(b.bytes)
	b.bytes = append(b.bytes, make([]byte, rtpHead)...)
	b.head.write(b.bytes[at:], last)
	b.bytes = append(b.bytes, payload...)
	b.ends = append(b.ends, len(b.bytes))
	b.head.sequence++
}

func (b *burst) send(within time.Duration) error {
	b.messages = b.messages[:0]
	from := 0
	for _, end := range b.ends {
		b.messages = append(b.messages, ipv4.Message{Buffers: [][]byte{b.bytes[from:end]}})
		from = end
	}
	total, begun := len(b.messages), time.Now()
	for sent := 0; sent < total; {
		n, err := b.conn.WriteBatch(b.messages[sent:min(sent+batch, total)], 0)
		if err != nil {
			return err
		}
		sent += n
		if ahead := within*time.Duration(sent)/time.Duration(total) - time.Since(begun); ahead > time.Millisecond {
			time.Sleep(ahead)
		}
	}
	b.bytes, b.ends = b.bytes[:0], b.ends[:0]
	return nil
}
