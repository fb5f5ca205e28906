package coding

import (
	"bytes"
	"fmt"
	"slices"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/ac3"
	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/mpega"
	"metaplasis/internal/core/opus"
	"metaplasis/internal/core/vp9"
)

// wholeUnits takes each stretch as one access unit.
func wholeUnits(config []byte) cutter {
	return func(b []byte) (cut, error) { return cut{data: b, config: config, size: len(b)}, nil }
}

// Bounds of the parameter sets that are held of a stream.
const (
	//limit:parameter sets that are held | each track | the one that was not sent for longest goes
	maxSets = 64
	// A record has room for no more sequence parameter sets (ISO/IEC 14496-15, 5.3.3.1).
	//
	//limit:parameter sets of one kind that are held | each track | the one that was not sent for longest goes
	maxSetsOfKind = 31
	//limit:bytes of one of them | each track | it is left out
	maxSetBytes = 16 << 10
)

// parameterSets holds the newest parameter set of each kind and number.
type parameterSets struct {
	list    []parameterSet
	changed bool
	count   uint64 // of sets that came
}

type parameterSet struct {
	kind, number int
	nal          []byte
	came         uint64 // the newest time, by the count of sets
}

func (p *parameterSets) find(kind, number int) (at int, found bool) {
	return slices.BinarySearchFunc(p.list, parameterSet{kind: kind, number: number}, func(a, b parameterSet) int {
		if a.kind != b.kind {
			return a.kind - b.kind
		}
		return a.number - b.number
	})
}

// add takes a set, and reports whether it says something that was not known.
func (p *parameterSets) add(kind, number int, nal []byte) bool {
	if len(nal) > maxSetBytes {
		return false
	}
	p.count++
	at, found := p.find(kind, number)
	if found {
		s := &p.list[at]
		s.came = p.count
		other := !bytes.Equal(s.nal, nal)
		if other {
			s.nal, p.changed = bytes.Clone(nal), true
		}
		return other
	}
	if len(p.of(kind)) >= maxSetsOfKind {
		p.forget(func(s *parameterSet) bool { return s.kind == kind })
	} else if len(p.list) >= maxSets {
		p.forget(func(*parameterSet) bool { return true })
	}
	at, _ = p.find(kind, number)
	p.list = slices.Insert(p.list, at, parameterSet{kind, number, bytes.Clone(nal), p.count})
	p.changed = true
	return true
}

// forget lets the set go, of some, that was not sent for longest: an encoder that counts its sets up refers to it no more.
func (p *parameterSets) forget(of func(*parameterSet) bool) {
	oldest := -1
	for i := range p.list {
		if of(&p.list[i]) && (oldest < 0 || p.list[i].came < p.list[oldest].came) {
			oldest = i
		}
	}
	p.list = slices.Delete(p.list, oldest, oldest+1)
}

func (p *parameterSets) of(kind int) (out [][]byte) {
	for _, s := range p.list {
		if s.kind == kind {
			out = append(out, s.nal)
		}
	}
	return out
}

// head is what the first slice of a picture says of it.
type head struct {
	idr     bool
	field   *avc.Slice // of one field alone
	ordered bool
	order   uint32 // of output, of so many bits
	bits    int
}

// nals is what cutting NAL units needs of H.264 and HEVC.
type nals struct {
	sets   parameterSets
	record []byte
	// What a NAL unit is: a parameter set of a kind (0: none), a slice, a delimiter or filler that is left out.
	look func(nal []byte) (set int, slice, drop bool)
	// The number of a parameter set.
	number func(kind int, nal []byte) int
	// The record of the sets.
	join func(p *parameterSets) []byte
	// Whether an access unit begins with this NAL unit, behind a slice of another.
	begins func(nal []byte) bool
	// The head of a picture by its first slice, nil when it cannot be read.
	head func(nal []byte) *head
	// What was read of parameter sets for the heads, until one changes.
	forget func()

	order   int64 // of the newest picture, on a line of its own for all
	ordered bool
}

// cut takes NAL units behind start codes up to the next access unit. Parameter sets go into the record.
func (n *nals) cut(b []byte) (cut, error) {
	out := make([]byte, 0, len(b)+16)
	start := startCode(b, 0)
	if start < 0 {
		return cut{}, &media.FormatError{Format: "NAL units", Found: fmt.Sprintf("%d bytes without a start code", len(b)), Want: "00 00 01"}
	}
	size := len(b)
	var picture *head
	sliced, paired, between := false, false, false // between the two fields of a frame
	for start >= 0 {
		end := startCode(b, start+3)
		nal := b[start+3:]
		if end >= 0 {
			nal = b[start+3 : end]
		}
		nal = bytes.TrimRight(nal, "\x00")
		if sliced && len(nal) > 0 && n.begins(nal) {
			_, slice, _ := n.look(nal)
			if !between && (paired || !n.goesOn(picture, b[start:])) { // a frame has two fields
				size = start
				break
			}
			paired, between = true, !slice
		}
		start = end
		if len(nal) == 0 {
			continue
		}
		set, slice, drop := n.look(nal)
		switch {
		case set > 0:
			if n.sets.add(set, n.number(set, nal), nal) {
				n.forget()
			}
		case !drop:
			if slice && !sliced {
				picture = n.head(nal)
			}
			out = avc.AppendNAL(out, nal)
		}
		sliced = sliced || slice
	}
	if n.sets.changed {
		if record := n.join(&n.sets); record != nil {
			n.record, n.sets.changed = record, false
		}
	}
	if !sliced {
		return cut{config: n.record, size: size}, nil
	}
	c := cut{data: out, config: n.record, size: size}
	if picture != nil {
		if !paired {
			c.field, c.alone = picture.field, size == len(b)
		}
		c.fresh = picture.idr
		if n.count(picture); n.ordered {
			c.ordered, c.order = true, n.order
		}
	}
	return c, nil
}

// goesOn reports whether what follows is the second field of a frame.
func (n *nals) goesOn(first *head, b []byte) bool {
	if first == nil || first.field == nil {
		return false
	}
	h := n.next(b)
	return h != nil && h.field != nil && h.field.Pairs(first.field)
}

// next is the head of the picture that comes next in b, nil for none.
func (n *nals) next(b []byte) *head {
	for start := startCode(b, 0); start >= 0; {
		end := startCode(b, start+3)
		nal := b[start+3:]
		if end >= 0 {
			nal = b[start+3 : end]
		}
		if _, slice, _ := n.look(nal); slice {
			return n.head(nal)
		}
		start = end
	}
	return nil
}

// count puts a picture's place in the order of output, of which a slice tells some bits, beside the one before it.
func (n *nals) count(h *head) {
	switch {
	case !h.ordered:
		n.ordered = false
	case h.idr || !n.ordered:
		n.ordered, n.order = true, int64(h.order)
		if half := int64(1) << (h.bits - 1); h.idr && h.bits > 0 && n.order >= half {
			n.order -= 2 * half
		}
	default:
		turn := int64(1) << h.bits
		d := (int64(h.order) - n.order) & (turn - 1)
		if d >= turn/2 {
			d -= turn
		}
		n.order += d
	}
}

// startCode returns where the next 00 00 01 is, -1 for none.
func startCode(b []byte, from int) int {
	if from > len(b) {
		return -1
	}
	if i := bytes.Index(b[from:], []byte{0, 0, 1}); i >= 0 {
		return from + i
	}
	return -1
}

func avcElementary(config []byte) cutter {
	n := &nals{}
	var given avc.Config
	number := func(kind int, nal []byte) int {
		r := bits.NewReader(nal[1:])
		if kind == avc.TypeSPS {
			r.U(24)
		}
		return int(r.UE())
	}
	if len(config) > 0 && given.Unmarshal(config) == nil {
		for _, s := range given.SPS {
			n.sets.add(avc.TypeSPS, number(avc.TypeSPS, s), s)
		}
		for _, s := range given.PPS {
			n.sets.add(avc.TypePPS, number(avc.TypePPS, s), s)
		}
	}
	n.number = number
	n.look = func(nal []byte) (set int, slice, drop bool) {
		switch t := avc.NALType(nal); t {
		case avc.TypeSPS, avc.TypePPS:
			return t, false, false
		case avc.TypeAUD, avc.TypeFiller:
			return 0, false, true
		default:
			return 0, t >= avc.TypeSlice && t <= avc.TypeIDR, false
		}
	}
	n.begins = func(nal []byte) bool { // 7.4.1.2.3
		switch t := avc.NALType(nal); {
		case t == avc.TypeSlice || t == avc.TypePartitionA || t == avc.TypeIDR:
			_, first := avc.SlicePPS(nal)
			return first
		default:
			return t >= avc.TypeSEI && t <= avc.TypeAUD || t >= avc.TypeReservedFirst && t <= avc.TypeReservedLast
		}
	}
	known := map[int]*avc.SPS{} // by the numbers of picture parameter sets
	n.forget = func() { clear(known) }
	n.head = func(nal []byte) *head {
		pps, first := avc.SlicePPS(nal)
		if pps < 0 || !first {
			return nil
		}
		sps := known[pps]
		if sps == nil {
			if sps = n.spsOf(pps); sps == nil {
				return nil
			}
			known[pps] = sps
		}
		s, ok := sps.ReadSlice(nal)
		if !ok {
			return nil
		}
		h := &head{idr: s.IDR, ordered: s.Ordered, order: s.Order, bits: sps.OrderBits}
		if s.Field {
			h.field = &s
		}
		return h
	}
	n.join = func(p *parameterSets) []byte {
		c := avc.Config{LengthSize: 4, SPS: p.of(avc.TypeSPS), PPS: p.of(avc.TypePPS)}
		if len(c.SPS) == 0 || len(c.PPS) == 0 || len(c.SPS[0]) < 4 {
			return nil
		}
		return c.Marshal()
	}
	return n.cut
}

// spsOf is the sequence parameter set of H.264 to which a picture parameter set belongs, nil when it is not there.
func (n *nals) spsOf(number int) *avc.SPS {
	at, found := n.sets.find(avc.TypePPS, number)
	if !found {
		return nil
	}
	_, of, ok := avc.PPSOf(n.sets.list[at].nal)
	if !ok {
		return nil
	}
	if at, found = n.sets.find(avc.TypeSPS, of); !found {
		return nil
	}
	sps, err := avc.ParseSPS(n.sets.list[at].nal)
	if err != nil {
		return nil
	}
	return sps
}

// hevcHeadSets are the parameter sets of a picture of HEVC.
type hevcHeadSets struct {
	sps *hevc.SPS
	pps hevc.PPS
}

// hevcSetsOf finds them by the number of the picture parameter set, nil when one is not there.
func (n *nals) hevcSetsOf(number int) *hevcHeadSets {
	at, found := n.sets.find(hevc.TypePPS, number)
	if !found {
		return nil
	}
	pps, ok := hevc.ParsePPS(n.sets.list[at].nal)
	if !ok {
		return nil
	}
	for _, nal := range n.sets.of(hevc.TypeSPS) {
		if sps, err := hevc.ParseSPS(nal); err == nil && sps.ID == pps.SPS {
			return &hevcHeadSets{sps, pps}
		}
	}
	return nil
}

func hevcElementary(config []byte) cutter {
	n := &nals{}
	n.number = func(kind int, nal []byte) int {
		if kind == hevc.TypePPS && len(nal) > 2 {
			return int(bits.NewReader(nal[2:]).UE())
		}
		return 0
	}
	n.look = func(nal []byte) (set int, slice, drop bool) {
		switch t := hevc.NALType(nal); t {
		case hevc.TypeVPS, hevc.TypeSPS, hevc.TypePPS:
			return t, false, false
		case hevc.TypeAUD, hevc.TypeFiller:
			return 0, false, true
		default:
			return 0, t < hevc.TypeVPS, false
		}
	}
	n.begins = func(nal []byte) bool {
		if hevc.NALType(nal) < hevc.TypeVPS {
			return hevc.FirstSlice(nal)
		}
		return hevc.Begins(nal)
	}
	known := map[int]*hevcHeadSets{} // by the numbers of picture parameter sets
	n.forget = func() { clear(known) }
	n.head = func(nal []byte) *head {
		number := hevc.SlicePPS(nal)
		if number < 0 {
			return nil
		}
		of := known[number]
		if of == nil {
			if of = n.hevcSetsOf(number); of == nil {
				return nil
			}
			known[number] = of
		}
		s, ok := of.sps.ReadSlice(nal, &of.pps)
		if !ok {
			return nil
		}
		return &head{idr: s.IDR, ordered: s.Ordered, order: s.Order, bits: of.sps.OrderBits}
	}
	n.join = func(p *parameterSets) []byte {
		var all [][]byte
		for _, s := range p.list {
			all = append(all, s.nal)
		}
		record, err := hevc.NewRecord(all)
		if err != nil {
			return nil // the rest of them comes later
		}
		return record
	}
	var given hevc.Config
	if len(config) > 0 && given.Unmarshal(config) == nil {
		for _, s := range slices.Concat(given.VPS, given.SPS, given.PPS) {
			kind := hevc.NALType(s)
			n.sets.add(kind, n.number(kind, s), s)
		}
	}
	return n.cut
}

// vp9Elementary makes the configuration from key frames.
func vp9Elementary([]byte) cutter {
	var record []byte
	return func(b []byte) (cut, error) {
		f, err := vp9.ParseFrame(b)
		if err != nil {
			return cut{}, err
		}
		if f.Key {
			c := vp9.Config{Profile: f.Profile, Level: vp9.LevelOf(f.Width, f.Height), Depth: f.Depth, Chroma: 1}
			if f.Profile == 1 || f.Profile == 3 {
				c.Chroma = 3
			}
			record = c.Marshal()
		}
		return cut{data: b, config: record, size: len(b)}, nil
	}
}

// av1Elementary makes the configuration from sequence headers.
func av1Elementary([]byte) cutter {
	var record []byte
	return func(b []byte) (cut, error) {
		u, err := av1.ParseUnit(b)
		if err != nil {
			return cut{}, err
		}
		if u.Sequence != nil {
			record = av1.NewConfig(u.Sequence)
		}
		return cut{data: b, config: record, size: len(b)}, nil
	}
}

// mpegvElementary takes the pictures of a stretch one by one.
func mpegvElementary([]byte) cutter {
	const codePicture, codeSequence, codeGroup = 0x00, 0xb3, 0xb8
	return func(b []byte) (cut, error) {
		start := startCode(b, 0)
		if start < 0 || start+3 >= len(b) {
			return cut{}, &media.FormatError{Format: "MPEG-2 video", Found: fmt.Sprintf("%d bytes without a start code", len(b)), Want: "00 00 01"}
		}
		pictured := false
		size := len(b)
		var field byte // the picture structure of the first picture
	walk:
		for at := start; at >= 0 && at+3 < len(b); at = startCode(b, at+3) {
			switch code := b[at+3]; {
			case pictured && (code == codeSequence || code == codeGroup):
				size = at
				break walk
			case code == codePicture && pictured:
				if field == 3 { // the second field of a picture belongs to it (6.1.1.4.1)
					size = at
					break walk
				}
				field = 3
			case code == codePicture:
				pictured, field = true, pictureStructure(b[at:])
			}
		}
		if !pictured {
			return cut{size: size}, nil
		}
		return cut{data: b[:size], size: size}, nil
	}
}

// pictureStructure reads it from the picture coding extension behind a picture header (ISO/IEC 13818-2, 6.3.10):
// 3 is a whole frame, which pictures without the extension are.
func pictureStructure(b []byte) byte {
	at := startCode(b, 3)
	if at < 0 || at+7 > len(b) || b[at+3] != 0xb5 || b[at+4]>>4 != 8 {
		return 3
	}
	return b[at+6] & 3
}

// aacElementary reads ADTS or LOAS, whichever comes; with a configuration, bare frames.
func aacElementary(config []byte) cutter {
	if len(config) > 0 {
		return wholeUnits(config)
	}
	l := &aac.LATM{}
	return func(b []byte) (cut, error) {
		if len(b) < 7 {
			return cut{}, nil
		}
		if b[0] == 0x56 {
			frames, size, err := l.ParseLOAS(b)
			if err != nil || len(frames) == 0 {
				return cut{size: size}, err
			}
			return cut{data: frames[0], more: frames[1:], config: l.Config(), size: size}, nil
		}
		f, err := aac.ParseADTS(b)
		return cut{data: f.Data, config: f.Config, size: f.Size}, err
	}
}

func mpegaElementary([]byte) cutter {
	return func(b []byte) (cut, error) {
		if len(b) < 4 {
			return cut{}, nil
		}
		h, err := mpega.Parse(b)
		if err == nil {
			err = fits("MPEG audio", h.Size)
		}
		if err != nil || len(b) < h.Size {
			return cut{}, err
		}
		return cut{data: b[:h.Size], size: h.Size}, nil
	}
}

// ac3Elementary takes dependent substreams of Enhanced AC-3 together with the frame before them (ETSI TS 102 366,
// E.3.8).
func ac3Elementary([]byte) cutter {
	const dependent = 1 // stream type
	return func(b []byte) (c cut, err error) {
		for at := 0; ; at = c.size {
			if len(b)-at < 8 {
				break
			}
			f, err := ac3.Parse(b[at:])
			if err == nil {
				err = fits("AC-3", f.Size)
			}
			if at > 0 && (err != nil || !f.Enhanced || b[at+2]>>6 != dependent) {
				break
			}
			if err != nil {
				return cut{}, err
			}
			c.size = at + f.Size
			if !f.Enhanced || c.size > len(b) {
				break
			}
		}
		if c.size <= len(b) {
			c.data = b[:c.size]
		}
		return c, nil
	}
}

// opusElementary reads packets behind the control headers of transport streams (ETSI TS 103 491, annex D), or
// bare ones with a configuration:
//
//	prefix(11) startTrim(1) endTrim(1) control(1) reserved(2) { size(8) } [startTrim(16)] [endTrim(16)] [control]
func opusElementary(config []byte) cutter {
	if len(config) > 0 {
		return wholeUnits(config)
	}
	usual := (&opus.Config{Channels: 2, InputRate: opus.SampleRate}).MarshalHead()
	return func(b []byte) (cut, error) {
		if len(b) < 3 {
			return cut{}, nil
		}
		if b[0] != 0x7f || b[1]>>5 != 7 {
			return cut{}, &media.FormatError{Format: "Opus control header", Found: fmt.Sprintf("% x", b[:2]), Want: "the prefix 3ff"}
		}
		size, at := 0, 2
		for {
			if at >= len(b) {
				return cut{}, nil
			}
			v := int(b[at])
			size += v
			if at++; v != 255 {
				break
			}
		}
		for _, flag := range []byte{0x10, 0x08} {
			if b[1]&flag != 0 {
				at += 2
			}
		}
		if b[1]&0x04 != 0 && at < len(b) {
			at += 1 + int(b[at])
		}
		if err := fits("Opus", size); err != nil {
			return cut{}, err
		}
		c := cut{config: usual, size: at + size}
		if c.size <= len(b) {
			c.data = b[at:c.size]
		}
		return c, nil
	}
}

// Private is how a transport stream describes an elementary stream beside its stream type.
type Private struct {
	Registration string   // format_identifier
	Descriptors  []uint16 // tags; from 0x100 on those behind an extension descriptor
}

// ByStream returns the row of an elementary stream of a transport stream, nil when it is none that is known.
func ByStream(streamType uint8, p Private) *Codec {
	if p.Registration != "" {
		if c := find(func(c *Codec) bool { return slices.Contains(c.registrations, p.Registration) }); c != nil {
			return c
		}
	}
	const private = 0x06
	if streamType == private {
		return find(func(c *Codec) bool {
			return slices.ContainsFunc(c.descriptors, func(d uint16) bool { return slices.Contains(p.Descriptors, d) })
		})
	}
	if streamType == latmStreamType {
		streamType = adtsStreamType
	}
	return find(func(c *Codec) bool {
		return c.StreamType == streamType && streamType != 0 || slices.Contains(c.streamTypes, streamType)
	})
}

// Stream types of AAC (ISO/IEC 13818-1, table 2-34).
const (
	adtsStreamType = 0x0f
	latmStreamType = 0x11
)

// ByRTP returns the row of an encoding name of RTP, nil when there is none.
func ByRTP(name string) *Codec {
	return find(func(c *Codec) bool { return c.RTP != "" && c.RTP == name })
}
