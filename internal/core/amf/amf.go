// Package amf reads and writes the Action Message Format: AMF 0 whole as far as RTMP commands
// and FLV script data use it, and AMF 3 values where an AMF 0 stream switches to them.
// Values map to Go as float64, bool, string, Object, []any, nil and time.Time.
package amf

import (
	"encoding/binary"
	"fmt"
	"math"
	"time"

	"metaplasis/internal/core/media"
)

// Property is one name and value of an Object.
type Property struct {
	Name  string
	Value any
}

// Object keeps its properties in the order in which they were sent.
type Object []Property

// Get returns the value of a property, or nil.
func (o Object) Get(name string) any {
	for _, p := range o {
		if p.Name == name {
			return p.Value
		}
	}
	return nil
}

// Number returns a property as a number.
func (o Object) Number(name string) (float64, bool) {
	v, ok := o.Get(name).(float64)
	return v, ok
}

// Object returns an object inside, nil when there is none of the name.
func (o Object) Object(name string) Object {
	in, _ := o.Get(name).(Object)
	return in
}

// String returns a property as a string, or "".
func (o Object) String(name string) string {
	s, _ := o.Get(name).(string)
	return s
}

// The bounds of what a decoder accepts from outside.
const (
	//limit:values within values | each message | the message is refused
	maxDepth = 16
	//limit:values | each message | the message is refused
	maxValues = 4096
)

// Markers of AMF 0 (section 2.1).
const (
	markNumber, markBool, markString, markObject = 0, 1, 2, 3
	markNull, markUndefined, markReference       = 5, 6, 7
	markECMAArray, markObjectEnd, markStrict     = 8, 9, 10
	markDate, markLongString, markUnsupported    = 11, 12, 13
	markXML, markTyped, markAMF3                 = 15, 16, 17
)

// DecodeAll reads AMF 0 values until b ends. What was read before an error is returned with it.
func DecodeAll(b []byte) ([]any, error) {
	d := decoder{b: b}
	var out []any
	for len(d.b) > 0 {
		v, err := d.value(0)
		if err != nil {
			return out, err
		}
		out = append(out, v)
	}
	return out, nil
}

type decoder struct {
	b      []byte
	values int

	// Reference tables of AMF 3 (section 2.2).
	strings []string
	objects []any
	traits  []traits
}

func broken(found, want string) error {
	return &media.FormatError{Format: "AMF", Found: found, Want: want}
}

func (d *decoder) bytes(n int) ([]byte, error) {
	if n < 0 || n > len(d.b) {
		return nil, broken(fmt.Sprintf("%d bytes", len(d.b)), fmt.Sprintf("%d", n))
	}
	p := d.b[:n]
	d.b = d.b[n:]
	return p, nil
}

func (d *decoder) u8() (byte, error) {
	p, err := d.bytes(1)
	if err != nil {
		return 0, err
	}
	return p[0], nil
}

func (d *decoder) number() (float64, error) {
	p, err := d.bytes(8)
	if err != nil {
		return 0, err
	}
	return math.Float64frombits(binary.BigEndian.Uint64(p)), nil
}

func (d *decoder) text(lengthBytes int) (string, error) {
	p, err := d.bytes(lengthBytes)
	if err != nil {
		return "", err
	}
	n := 0
	for _, b := range p {
		n = n<<8 | int(b)
	}
	if p, err = d.bytes(n); err != nil {
		return "", err
	}
	return string(p), nil
}

// count charges one value against the bounds.
func (d *decoder) count(depth int) error {
	if d.values++; d.values > maxValues {
		return broken("a great many values", fmt.Sprintf("%d at most", maxValues))
	}
	if depth > maxDepth {
		return broken("deep nesting", fmt.Sprintf("%d levels at most", maxDepth))
	}
	return nil
}

func (d *decoder) value(depth int) (any, error) {
	if err := d.count(depth); err != nil {
		return nil, err
	}
	mark, err := d.u8()
	if err != nil {
		return nil, err
	}
	switch mark {
	case markNumber:
		return d.number()
	case markBool:
		b, err := d.u8()
		return b != 0, err
	case markString:
		return d.text(2)
	case markLongString, markXML:
		return d.text(4)
	case markNull, markUndefined, markUnsupported:
		return nil, nil
	case markReference:
		_, err := d.bytes(2)
		return nil, err
	case markTyped:
		if _, err := d.text(2); err != nil {
			return nil, err
		}
		return d.properties(depth)
	case markObject:
		return d.properties(depth)
	case markECMAArray:
		if _, err := d.bytes(4); err != nil { // a hint that encoders set wrongly
			return nil, err
		}
		return d.properties(depth)
	case markStrict:
		p, err := d.bytes(4)
		if err != nil {
			return nil, err
		}
		n := binary.BigEndian.Uint32(p)
		if uint64(n) > uint64(len(d.b)) {
			return nil, broken(fmt.Sprintf("an array of %d", n),
				fmt.Sprintf("%d values at most in the bytes left", len(d.b)))
		}
		var out []any
		for range n {
			v, err := d.value(depth + 1)
			if err != nil {
				return nil, err
			}
			out = append(out, v)
		}
		return out, nil
	case markDate:
		ms, err := d.number()
		if err != nil {
			return nil, err
		}
		_, err = d.bytes(2)
		return time.UnixMilli(int64(ms)).UTC(), err
	case markAMF3:
		return d.value3(depth)
	}
	return nil, broken(fmt.Sprintf("marker %d", mark), "a marker of AMF 0")
}

func (d *decoder) properties(depth int) (Object, error) {
	obj := Object{}
	for {
		name, err := d.text(2)
		if err != nil {
			return nil, err
		}
		if name == "" && len(d.b) > 0 && d.b[0] == markObjectEnd {
			d.b = d.b[1:]
			return obj, nil
		}
		v, err := d.value(depth + 1)
		if err != nil {
			return nil, err
		}
		obj = append(obj, Property{name, v})
	}
}

// Append encodes values as AMF 0. It panics on a type that AMF 0 lacks: that is a mistake of
// the caller, never of a peer.
func Append(dst []byte, values ...any) []byte {
	for _, v := range values {
		dst = appendValue(dst, v)
	}
	return dst
}

func appendValue(dst []byte, v any) []byte {
	switch v := v.(type) {
	case nil:
		return append(dst, markNull)
	case float64:
		return binary.BigEndian.AppendUint64(append(dst, markNumber), math.Float64bits(v))
	case int:
		return appendValue(dst, float64(v))
	case bool:
		if v {
			return append(dst, markBool, 1)
		}
		return append(dst, markBool, 0)
	case string:
		if len(v) > math.MaxUint16 {
			dst = binary.BigEndian.AppendUint32(append(dst, markLongString), uint32(len(v)))
			return append(dst, v...)
		}
		return appendName(append(dst, markString), v)
	case Object:
		return appendProperties(append(dst, markObject), v)
	case []any:
		dst = binary.BigEndian.AppendUint32(append(dst, markStrict), uint32(len(v)))
		return Append(dst, v...)
	case ECMAArray:
		dst = binary.BigEndian.AppendUint32(append(dst, markECMAArray), uint32(len(v)))
		return appendProperties(dst, Object(v))
	}
	panic(fmt.Sprintf("amf: no encoding for %T", v))
}

// ECMAArray is an Object that is written as an associative array, as onMetaData wants it.
type ECMAArray Object

func appendName(dst []byte, s string) []byte {
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(s)))
	return append(dst, s...)
}

func appendProperties(dst []byte, o Object) []byte {
	for _, p := range o {
		dst = appendValue(appendName(dst, p.Name), p.Value)
	}
	return append(dst, 0, 0, markObjectEnd)
}
