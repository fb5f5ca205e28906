package segment

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMemoryReadsAsOneFile(t *testing.T) {
	for _, m := range []Memory{{[]byte("abc"), []byte("defg"), []byte("h")}, {[]byte("abcdefgh")}} {
		assert.EqualValues(t, 8, m.Size())
		p, err := m.Open()
		require.NoError(t, err)
		b, err := io.ReadAll(p)
		require.NoError(t, err)
		assert.Equal(t, "abcdefgh", string(b))
		_, err = p.Seek(-4, io.SeekEnd)
		require.NoError(t, err)
		b, _ = io.ReadAll(p)
		assert.Equal(t, "efgh", string(b))
		_, err = p.Seek(-1, io.SeekStart)
		assert.Error(t, err)
		require.NoError(t, p.Close())
	}
}

// elsewhere is a blob that does not lie in memory.
type elsewhere struct {
	data []byte
	err  error
}

func (e elsewhere) Size() int64      { return int64(len(e.data)) }
func (e elsewhere) Pieces() [][]byte { return nil }
func (e elsewhere) Open() (io.ReadSeekCloser, error) {
	return closing{bytes.NewReader(e.data)}, e.err
}

func TestSegmentsLieAnywhere(t *testing.T) {
	s := &Segment{MSN: 7, Size: 4, Blob: elsewhere{data: []byte("data")}}
	b, err := s.Bytes()
	require.NoError(t, err)
	assert.Equal(t, [][]byte{[]byte("data")}, b)
	s.Blob = elsewhere{data: []byte("dat")}
	_, err = s.Bytes()
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	s.Blob = elsewhere{err: errors.New("the disk is gone")}
	_, err = s.Bytes()
	assert.ErrorContains(t, err, "segment 7: the disk is gone")
	s.Blob = nil
	b, err = s.Bytes()
	assert.True(t, b == nil && err == nil, "a gap has none")
}
