package amf

import (
	"fmt"
	"time"
)

// traits is the shape of an AMF 3 object (section 3.12).
type traits struct {
	dynamic bool
	names   []string
}

// u29 reads a variable-length integer (section 1.3.1): three times seven bits, then eight.
func (d *decoder) u29() (int, error) {
	v := 0
	for i := range 4 {
		b, err := d.u8()
		if err != nil {
			return 0, err
		}
		if i == 3 {
			return v<<8 | int(b), nil
		}
		v = v<<7 | int(b&0x7f)
		if b&0x80 == 0 {
			break
		}
	}
	return v, nil
}

func (d *decoder) string3() (string, error) {
	n, err := d.u29()
	if err != nil {
		return "", err
	}
	if n&1 == 0 {
		if n>>1 >= len(d.strings) {
			return "", broken(fmt.Sprintf("string reference %d", n>>1), fmt.Sprintf("one below %d", len(d.strings)))
		}
		return d.strings[n>>1], nil
	}
	p, err := d.bytes(n >> 1)
	if err != nil {
		return "", err
	}
	if len(p) > 0 {
		d.strings = append(d.strings, string(p))
	}
	return string(p), nil
}

// value3 reads one AMF 3 value: null, booleans, integers, doubles, strings, dates, arrays,
// objects and byte arrays. The rest never stands in a publishing command.
func (d *decoder) value3(depth int) (any, error) {
	if err := d.count(depth); err != nil {
		return nil, err
	}
	mark, err := d.u8()
	if err != nil {
		return nil, err
	}
	switch mark {
	case 0, 1:
		return nil, nil
	case 2, 3:
		return mark == 3, nil
	case 4:
		n, err := d.u29()
		if n >= 1<<28 {
			n -= 1 << 29
		}
		return float64(n), err
	case 5:
		return d.number()
	case 6:
		return d.string3()
	case 8, 9, 10, 12:
		return d.complex3(mark, depth)
	}
	return nil, broken(fmt.Sprintf("AMF 3 marker %d", mark), "a value of a command")
}

// complex3 reads the types that may be sent by reference.
func (d *decoder) complex3(mark byte, depth int) (any, error) {
	n, err := d.u29()
	if err != nil {
		return nil, err
	}
	if n&1 == 0 {
		if n>>1 >= len(d.objects) {
			return nil, broken(fmt.Sprintf("object reference %d", n>>1), fmt.Sprintf("one below %d", len(d.objects)))
		}
		return d.objects[n>>1], nil
	}
	slot := len(d.objects)
	d.objects = append(d.objects, nil)
	var v any
	switch mark {
	case 8:
		var ms float64
		ms, err = d.number()
		v = time.UnixMilli(int64(ms)).UTC()
	case 9:
		v, err = d.array3(n>>1, depth)
	case 10:
		v, err = d.object3(n, depth)
	case 12:
		var p []byte
		p, err = d.bytes(n >> 1)
		v = string(p)
	}
	d.objects[slot] = v
	return v, err
}

func (d *decoder) array3(dense, depth int) (any, error) {
	obj, err := d.dynamic3(Object{}, depth)
	if err != nil {
		return nil, err
	}
	if dense > len(d.b) {
		return nil, broken(fmt.Sprintf("an array of %d", dense),
			fmt.Sprintf("%d values at most in the bytes left", len(d.b)))
	}
	var out []any
	for range dense {
		v, err := d.value3(depth + 1)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	if len(obj) > 0 {
		return obj, nil
	}
	return out, nil
}

// dynamic3 reads names and values until the empty name.
func (d *decoder) dynamic3(obj Object, depth int) (Object, error) {
	for {
		name, err := d.string3()
		if err != nil || name == "" {
			return obj, err
		}
		v, err := d.value3(depth + 1)
		if err != nil {
			return obj, err
		}
		obj = append(obj, Property{name, v})
	}
}

func (d *decoder) object3(n, depth int) (any, error) {
	var t traits
	switch {
	case n&2 == 0:
		if n>>2 >= len(d.traits) {
			return nil, broken(fmt.Sprintf("traits reference %d", n>>2), fmt.Sprintf("one below %d", len(d.traits)))
		}
		t = d.traits[n>>2]
	case n&4 != 0:
		return nil, broken("an externalizable object", "a plain one")
	default:
		t.dynamic = n&8 != 0
		if n>>4 > len(d.b) {
			return nil, broken(fmt.Sprintf("%d sealed names", n>>4), "fewer than the bytes left")
		}
		if _, err := d.string3(); err != nil { // the class
			return nil, err
		}
		for range n >> 4 {
			name, err := d.string3()
			if err != nil {
				return nil, err
			}
			t.names = append(t.names, name)
		}
		d.traits = append(d.traits, t)
	}
	obj := Object{}
	for _, name := range t.names {
		v, err := d.value3(depth + 1)
		if err != nil {
			return nil, err
		}
		obj = append(obj, Property{name, v})
	}
	if t.dynamic {
		return d.dynamic3(obj, depth)
	}
	return obj, nil
}
