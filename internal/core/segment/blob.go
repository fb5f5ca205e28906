package segment

import (
	"bytes"
	"fmt"
	"io"
)

// Blob is where the bytes of a segment lie: in memory, in a file, in an object store. A segment itself is
// metadata, the same wherever that is. A blob is immutable.
type Blob interface {
	Size() int64
	// Pieces returns the bytes in as few pieces as they lie in memory, nil when they lie elsewhere.
	Pieces() [][]byte
	// Open reads them, wherever they lie.
	Open() (io.ReadSeekCloser, error)
}

// Memory is a blob in memory.
type Memory [][]byte

// Size implements Blob.
func (m Memory) Size() (n int64) {
	for _, p := range m {
		n += int64(len(p))
	}
	return n
}

// Pieces implements Blob.
func (m Memory) Pieces() [][]byte { return m }

// Open implements Blob.
func (m Memory) Open() (io.ReadSeekCloser, error) {
	if len(m) == 1 {
		return closing{bytes.NewReader(m[0])}, nil
	}
	return closing{&pieces{all: m, size: m.Size()}}, nil
}

// closing reads what needs no closing.
type closing struct{ io.ReadSeeker }

func (closing) Close() error { return nil }

// pieces reads a sequence of byte slices as one file.
type pieces struct {
	all  [][]byte
	size int64
	at   int64
}

func (p *pieces) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += p.at
	case io.SeekEnd:
		offset += p.size
	}
	if offset < 0 {
		return 0, fmt.Errorf("found offset %d, expected none below 0", offset)
	}
	p.at = offset
	return offset, nil
}

func (p *pieces) Read(b []byte) (int, error) {
	skip := p.at
	for _, piece := range p.all {
		if skip < int64(len(piece)) {
			n := copy(b, piece[skip:])
			p.at += int64(n)
			return n, nil
		}
		skip -= int64(len(piece))
	}
	return 0, io.EOF
}
