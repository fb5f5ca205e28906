package libsrt

import (
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A listener learns how the passphrase of each caller fits, so that somebody can be told.
func TestPassphrasesOfCallers(t *testing.T) {
	for _, c := range []struct {
		name, ours, theirs string
		want               Key
	}{
		{"none", "", "", KeyNone},
		{"the same", "kestrel-bay-2031", "kestrel-bay-2031", KeyGood},
		{"another", "kestrel-bay-2031", "another-phrase", KeyWrong},
		{"theirs alone", "", "kestrel-bay-2031", KeyMissing},
		{"ours alone", "kestrel-bay-2031", "", KeyNone},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, err := Listen("127.0.0.1:0", Options{}, func(string, string) Decision { return Decision{Passphrase: c.ours} })
			require.NoError(t, err)
			defer l.Close()
			to := "127.0.0.1:" + strconv.Itoa(l.Port())
			done := make(chan struct{})
			go func() {
				defer close(done)
				s, err := Dial(to, Options{Passphrase: c.theirs, Connect: 5 * time.Second, Idle: 300 * time.Millisecond})
				if err != nil {
					return // that side refuses
				}
				buf := make([]byte, MessageSize)
				for err == nil || err == ErrTimeout {
					_, err = s.Read(buf)
				}
				s.Close()
			}()
			s, err := l.Accept()
			require.NoError(t, err)
			key := s.Key()
			for n := 0; key == KeyPending && n < 100; n++ {
				time.Sleep(10 * time.Millisecond)
				key = s.Key()
			}
			assert.Equal(t, c.want, key)
			s.Close()
			<-done
		})
	}
}
