// Package dash writes and reads media presentation descriptions (ISO/IEC 23009-1) as the DASH-IF
// guidelines for live services profile them: dynamic presentations of CMAF segments, at low
// latency too. The structures below are the schema's elements, as far as a live origin and an
// inspector of live streams need them.
package dash

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/media"
)

// MPD is the root (5.3.1).
type MPD struct {
	XMLName               xml.Name            `xml:"urn:mpeg:dash:schema:mpd:2011 MPD"`
	Profiles              string              `xml:"profiles,attr"`
	Type                  string              `xml:"type,attr,omitempty"` // dynamic or static
	AvailabilityStartTime *Date               `xml:"availabilityStartTime,attr,omitempty"`
	PublishTime           *Date               `xml:"publishTime,attr,omitempty"`
	MinimumUpdatePeriod   *Duration           `xml:"minimumUpdatePeriod,attr,omitempty"`
	MinBufferTime         *Duration           `xml:"minBufferTime,attr,omitempty"`
	TimeShiftBufferDepth  *Duration           `xml:"timeShiftBufferDepth,attr,omitempty"`
	SuggestedDelay        *Duration           `xml:"suggestedPresentationDelay,attr,omitempty"`
	MaxSegmentDuration    *Duration           `xml:"maxSegmentDuration,attr,omitempty"`
	Duration              *Duration           `xml:"mediaPresentationDuration,attr,omitempty"`
	BaseURL               []string            `xml:"BaseURL"`
	ServiceDescription    *ServiceDescription `xml:"ServiceDescription"`
	Periods               []Period            `xml:"Period"`
	UTCTiming             []Descriptor        `xml:"UTCTiming"`
}

// PeriodID names a period: by its id, or by its place, which is enough where periods do not leave (5.3.2.2).
func (m *MPD) PeriodID(n int) string {
	if id := m.Periods[n].ID; id != "" {
		return id
	}
	return "#" + strconv.Itoa(n)
}

// Descriptor is an element with a scheme and a value (5.8).
type Descriptor struct {
	Scheme string `xml:"schemeIdUri,attr"`
	Value  string `xml:"value,attr,omitempty"`
}

// ServiceDescription tells how late a player should be (annex K).
type ServiceDescription struct {
	ID           int           `xml:"id,attr"`
	Latency      *Latency      `xml:"Latency"`
	PlaybackRate *PlaybackRate `xml:"PlaybackRate"`
}

// Latency is in milliseconds.
type Latency struct {
	ReferenceID int `xml:"referenceId,attr"`
	Target      int `xml:"target,attr"`
	Min         int `xml:"min,attr,omitempty"`
	Max         int `xml:"max,attr,omitempty"`
}

// PlaybackRate bounds the speed of catching up.
type PlaybackRate struct {
	Min float64 `xml:"min,attr"`
	Max float64 `xml:"max,attr"`
}

// Period is a stretch in which nothing changes (5.3.2).
type Period struct {
	ID       string        `xml:"id,attr"`
	Start    *Duration     `xml:"start,attr,omitempty"`
	Duration *Duration     `xml:"duration,attr,omitempty"`
	BaseURL  []string      `xml:"BaseURL"`
	Events   []EventStream `xml:"EventStream"`
	Addressing
	Sets []AdaptationSet `xml:"AdaptationSet"`
}

// EventStream lists events of a period (5.10.2).
type EventStream struct {
	Scheme    string  `xml:"schemeIdUri,attr"`
	Value     string  `xml:"value,attr,omitempty"`
	Timescale int64   `xml:"timescale,attr"`
	Events    []Event `xml:"Event"`
}

// Event is one event. Times are ticks of its stream.
type Event struct {
	Time     int64   `xml:"presentationTime,attr"`
	Duration int64   `xml:"duration,attr,omitempty"`
	ID       uint32  `xml:"id,attr"`
	Text     string  `xml:",chardata"`
	Signal   *Signal `xml:"Signal"`
}

// Signal carries a splice_info_section (ANSI/SCTE 214-1, 6.8.4).
type Signal struct {
	XMLName xml.Name `xml:"http://www.scte.org/schemas/35/2016 Signal"`
	Binary  string   `xml:"Binary"` // base64
}

// AdaptationSet is a set to switch within (5.3.3).
type AdaptationSet struct {
	ID            int          `xml:"id,attr"`
	ContentType   string       `xml:"contentType,attr,omitempty"`
	MimeType      string       `xml:"mimeType,attr,omitempty"`
	Lang          string       `xml:"lang,attr,omitempty"`
	Alignment     bool         `xml:"segmentAlignment,attr,omitempty"`
	StartWithSAP  int          `xml:"startWithSAP,attr,omitempty"`
	Supplemental  []Descriptor `xml:"SupplementalProperty"`
	Inband        []Descriptor `xml:"InbandEventStream"`
	Label         string       `xml:"Label,omitempty"`
	Producer      *Producer    `xml:"ProducerReferenceTime"`
	Resync        *Resync      `xml:"Resync"`
	Accessibility []Descriptor `xml:"Accessibility"`
	Role          []Descriptor `xml:"Role"`
	BaseURL       []string     `xml:"BaseURL"`
	Addressing
	Representations []Representation `xml:"Representation"`
}

// Resync tells how far apart the points are at which a segment that is being made can be entered (5.3.12).
type Resync struct {
	Type int   `xml:"type,attr"` // 0: a CMAF chunk begins there
	DT   int64 `xml:"dT,attr"`   // ticks of the template at most
}

// Producer relates a media time to the wall clock (5.12).
type Producer struct {
	ID               int         `xml:"id,attr"`
	Inband           bool        `xml:"inband,attr"`
	Type             string      `xml:"type,attr"`
	WallClockTime    *Date       `xml:"wallClockTime,attr"`
	PresentationTime int64       `xml:"presentationTime,attr"`
	UTCTiming        *Descriptor `xml:"UTCTiming"`
}

// Representation is one rendition (5.3.5).
type Representation struct {
	ID        string       `xml:"id,attr"`
	MimeType  string       `xml:"mimeType,attr,omitempty"`
	Codecs    string       `xml:"codecs,attr,omitempty"`
	Bandwidth int64        `xml:"bandwidth,attr"`
	Width     int          `xml:"width,attr,omitempty"`
	Height    int          `xml:"height,attr,omitempty"`
	FrameRate string       `xml:"frameRate,attr,omitempty"`
	SAR       string       `xml:"sar,attr,omitempty"`
	Sampling  int          `xml:"audioSamplingRate,attr,omitempty"`
	Channels  *Descriptor  `xml:"AudioChannelConfiguration"`
	Essential []Descriptor `xml:"EssentialProperty"`
	BaseURL   []string     `xml:"BaseURL"`
	Addressing
}

// Addressing tells where segments are, in one of three ways (5.3.9). What is not told is inherited.
type Addressing struct {
	Template *SegmentTemplate `xml:"SegmentTemplate"`
	List     *SegmentList     `xml:"SegmentList"`
	Base     *SegmentBase     `xml:"SegmentBase"`
}

// Initialization is a header with an address of its own, or in a range of the file (5.3.9.2).
type Initialization struct {
	SourceURL string `xml:"sourceURL,attr,omitempty"`
	Range     string `xml:"range,attr,omitempty"`
}

// SegmentBase describes one file with an index in it (5.3.9.2).
type SegmentBase struct {
	Timescale  int64           `xml:"timescale,attr,omitempty"`
	Offset     int64           `xml:"presentationTimeOffset,attr,omitempty"`
	IndexRange string          `xml:"indexRange,attr,omitempty"`
	Header     *Initialization `xml:"Initialization"`
}

// SegmentList lists addresses (5.3.9.3).
type SegmentList struct {
	Timescale   int64           `xml:"timescale,attr,omitempty"`
	Duration    int64           `xml:"duration,attr,omitempty"`
	StartNumber *uint64         `xml:"startNumber,attr,omitempty"`
	Offset      int64           `xml:"presentationTimeOffset,attr,omitempty"`
	Header      *Initialization `xml:"Initialization"`
	Timeline    *Timeline       `xml:"SegmentTimeline"`
	URLs        []SegmentURL    `xml:"SegmentURL"`
}

// SegmentURL is one segment of a list (5.3.9.3).
type SegmentURL struct {
	Media string `xml:"media,attr,omitempty"`
	Range string `xml:"mediaRange,attr,omitempty"`
}

// ByteRange reads first-last (RFC 9110, 14.1.2); offset is -1 without one.
func ByteRange(s string) (offset, length int64, err error) {
	if s == "" {
		return -1, 0, nil
	}
	a, b, _ := strings.Cut(s, "-")
	first, err1 := strconv.ParseInt(a, 10, 64)
	last, err2 := strconv.ParseInt(b, 10, 64)
	if err1 != nil || err2 != nil || first < 0 || last < first || last-first > math.MaxInt32 {
		return 0, 0, broken(strconv.Quote(s[:min(len(s), 40)]), "a byte range such as 0-999")
	}
	return first, last - first + 1, nil
}

// SegmentTemplate makes addresses (5.3.9.4).
type SegmentTemplate struct {
	Timescale    int64     `xml:"timescale,attr,omitempty"`
	Duration     int64     `xml:"duration,attr,omitempty"`
	StartNumber  *uint64   `xml:"startNumber,attr,omitempty"`
	EndNumber    *uint64   `xml:"endNumber,attr,omitempty"`
	Offset       int64     `xml:"presentationTimeOffset,attr,omitempty"`
	TimeOffset   float64   `xml:"availabilityTimeOffset,attr,omitempty"`
	TimeComplete *bool     `xml:"availabilityTimeComplete,attr,omitempty"`
	Media        string    `xml:"media,attr,omitempty"`
	Header       string    `xml:"initialization,attr,omitempty"`
	Timeline     *Timeline `xml:"SegmentTimeline"`
}

// Timeline lists segments (5.3.9.6).
type Timeline struct {
	S []S `xml:"S"`
}

// S is a run of segments of one duration. Repeat is how many follow the first.
type S struct {
	T      *int64 `xml:"t,attr,omitempty"`
	D      int64  `xml:"d,attr"`
	Repeat int64  `xml:"r,attr,omitempty"`
}

// Add appends a segment, extending the last run where that fits.
func (t *Timeline) Add(at, d int64) {
	if n := len(t.S); n > 0 {
		last := &t.S[n-1]
		end := t.end()
		if end == at && last.D == d {
			last.Repeat++
			return
		}
		if end == at {
			t.S = append(t.S, S{D: d})
			return
		}
	}
	t.S = append(t.S, S{T: &at, D: d})
}

func (t *Timeline) end() (at int64) {
	for _, s := range t.S {
		if s.T != nil {
			at = *s.T
		}
		at += s.D * (s.Repeat + 1)
	}
	return at
}

// Marshal writes the document.
func (m *MPD) Marshal() []byte {
	b, err := xml.MarshalIndent(m, "", "  ")
	if err != nil {
		panic(err) // our own plain structures
	}
	return append([]byte(xml.Header), append(b, '\n')...)
}

// maxMPD bounds a document from outside.
//
//limit:bytes of a manifest from outside | each manifest | it is refused
const maxMPD = 8 << 20

func broken(found, want string) error {
	return &media.FormatError{Format: "MPD", Found: found, Want: want}
}

// Unmarshal reads a document.
func (m *MPD) Unmarshal(b []byte) error {
	if len(b) > maxMPD {
		return broken(fmt.Sprintf("%d bytes", len(b)), fmt.Sprintf("%d at most", maxMPD))
	}
	d := xml.NewDecoder(bytes.NewReader(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))))
	if err := d.Decode(m); err != nil {
		return broken(err.Error(), "an MPD element of urn:mpeg:dash:schema:mpd:2011")
	}
	if len(m.Periods) == 0 {
		return broken("no Period", "at least one")
	}
	return nil
}

// Date is an xs:dateTime.
type Date struct{ time.Time }

// NewDate makes a date.
func NewDate(t time.Time) *Date { return &Date{t} }

// MarshalText implements encoding.TextMarshaler.
func (d *Date) MarshalText() ([]byte, error) {
	return []byte(d.UTC().Format("2006-01-02T15:04:05.000Z")), nil
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Date) UnmarshalText(b []byte) (err error) {
	s := strings.TrimSpace(string(b))
	if d.Time, err = time.Parse(time.RFC3339Nano, s); err != nil {
		d.Time, err = time.Parse("2006-01-02T15:04:05.999999999", s) // without a zone: UTC
	}
	if err != nil {
		return broken(strconv.Quote(s[:min(len(s), 40)]), "a date and time")
	}
	return nil
}

// Duration is an xs:duration of days and less, in nanoseconds.
type Duration time.Duration

// NewDuration makes a duration.
func NewDuration(d time.Duration) *Duration { return (*Duration)(&d) }

// D returns the duration, 0 for none.
func (d *Duration) D() time.Duration {
	if d == nil {
		return 0
	}
	return time.Duration(*d)
}

// MarshalText implements encoding.TextMarshaler.
func (d *Duration) MarshalText() ([]byte, error) {
	v := time.Duration(*d)
	s := strconv.FormatFloat(float64(v/time.Second)+float64(v%time.Second)/1e9, 'f', -1, 64)
	return []byte("PT" + s + "S"), nil
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Duration) UnmarshalText(b []byte) error {
	s := strings.TrimSpace(string(b))
	bad := func() error {
		return broken(strconv.Quote(s[:min(len(s), 40)]), "a duration such as PT2.5S")
	}
	rest, ok := strings.CutPrefix(s, "P")
	if !ok || rest == "" {
		return bad()
	}
	units := map[byte]float64{'D': 86400}
	total, number := 0.0, ""
	for i := range len(rest) {
		c := rest[i]
		switch {
		case c == 'T':
			units = map[byte]float64{'H': 3600, 'M': 60, 'S': 1}
		case c >= '0' && c <= '9' || c == '.':
			number += string(c)
		default:
			v, err := strconv.ParseFloat(number, 64)
			unit, known := units[c]
			if err != nil || !known {
				return bad()
			}
			total += v * unit
			number = ""
		}
	}
	const most = math.MaxInt64 / 2
	if number != "" || total*1e9 > most {
		return bad()
	}
	*d = Duration(math.Round(total*1e6)) * 1000
	return nil
}
