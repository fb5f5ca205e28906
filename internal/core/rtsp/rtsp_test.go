package rtsp

import (
	"bufio"
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMessagesAndPacketsAmongEachOther(t *testing.T) {
	announce := Request("ANNOUNCE", "rtsp://host/in/start-line?key=k")
	announce.Header.Set("Cseq", "2")
	announce.Header.Set("Content-Type", "application/sdp")
	announce.Body = []byte("v=0\r\n")
	in := bytes.NewBuffer(announce.Marshal())
	in.Write((&Frame{Channel: 3, Data: []byte("packet")}).Marshal())
	in.WriteString("\r\nRTSP/1.0 461 Unsupported Transport\r\nCSeq: 7\r\nsession : abc;timeout=30\r\n\r\n")
	r := bufio.NewReader(in)
	m, _, err := Read(r)
	require.NoError(t, err)
	assert.Equal(t, []string{"ANNOUNCE", "rtsp://host/in/start-line?key=k", "2", "v=0\r\n"}, []string{m.Method, m.Address, m.Header.Get("CSeq"), string(m.Body)})
	_, f, err := Read(r)
	require.NoError(t, err)
	assert.Equal(t, &Frame{Channel: 3, Data: []byte("packet")}, f)
	m, _, err = Read(r)
	require.NoError(t, err)
	assert.Equal(t, []any{461, "Unsupported Transport", "7", "abc;timeout=30"}, []any{m.Status, m.Reason, m.Header.Get("Cseq"), m.Header.Get("Session")})
	_, _, err = Read(r)
	assert.ErrorIs(t, err, io.EOF)
}

func TestWhatIsNoRTSP(t *testing.T) {
	for text, want := range map[string]string{
		"GET / HTTP/1.1\r\n\r\n":                                            "is no request and no response",
		"OPTIONS * RTSP/1.0\r\nno colon here\r\n\r\n":                       "has no colon",
		"OPTIONS * RTSP/1.0\r\nContent-Length: 9999999\r\n\r\n":             "a body of 9999999 bytes",
		"OPTIONS " + strings.Repeat("x", 5000) + "\r\n":                     "a line of more than",
		"RTSP/1.0 9999 No\r\n\r\n":                                          "status",
		"OPTIONS * RTSP/1.0\r\n" + strings.Repeat("A: b\r\n", 100) + "\r\n": "too long",
	} {
		_, _, err := Read(bufio.NewReader(strings.NewReader(text)))
		assert.ErrorContains(t, err, want, "%.40s", text)
	}
}

func TestTransports(t *testing.T) {
	list := ParseTransports(`RTP/AVP/UDP;multicast;destination=239.1.1.1;port=5000-5001;ttl=16, RTP/AVP/TCP;unicast;interleaved=0-1;mode="RECORD",RTP/AVP;unicast;client_port=4588`)
	require.Len(t, list, 3)
	assert.Equal(t, []any{true, "239.1.1.1", [2]int{5000, 5001}, 16}, []any{list[0].Multicast, list[0].Destination, list[0].Port, list[0].TTL})
	assert.Equal(t, []any{true, true, [2]int{0, 1}}, []any{list[1].TCP, list[1].Record, list[1].Interleaved})
	assert.Equal(t, []any{false, [2]int{4588, 4589}, [2]int{-1, -1}}, []any{list[2].TCP, list[2].Client, list[2].Interleaved})
	for _, one := range list {
		assert.Equal(t, one.Client, ParseTransports(one.String())[0].Client)
		assert.Equal(t, one.Interleaved, ParseTransports(one.String())[0].Interleaved)
	}
}

// TestSignIn answers the challenges of the RFCs' own examples.
func TestSignIn(t *testing.T) {
	// RFC 2617, 3.5.
	c := readChallenges([]string{`Basic realm="x"`, `Digest realm="testrealm@host.com", qop="auth,auth-int", nonce="dcd98b7102dd2f0e8b11d0f600bfb0c093", opaque="5ccc069c403ebaf9f0171e9517f40e41"`})
	require.True(t, c.digest)
	got := c.answer(Credentials{"Mufasa", "Circle Of Life"}, "GET", "/dir/index.html", "0a4f113b")
	assert.Contains(t, got, `response="6629fae49393a05397450978507c4ef1"`)
	assert.Contains(t, got, `opaque="5ccc069c403ebaf9f0171e9517f40e41"`)
	// RFC 7616, 3.9.1.
	c = readChallenges([]string{`Digest realm="http-auth@example.org", qop="auth", algorithm=SHA-256, nonce="7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v"`})
	got = c.answer(Credentials{"Mufasa", "Circle of Life"}, "GET", "/dir/index.html", "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ")
	assert.Contains(t, got, `response="753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"`)
	c = readChallenges([]string{`Basic realm="camera"`})
	assert.Equal(t, "Basic YTpiOmM=", c.answer(Credentials{"a", "b:c"}, "DESCRIBE", "x", ""))
	m := Request("ANNOUNCE", "x")
	m.Header.Set("Authorization", "Basic YTpiOmM=")
	assert.Equal(t, "b:c", m.BasicPassword())
	assert.Nil(t, readChallenges([]string{`Negotiate`, `Digest realm="x", algorithm=SHA-512`}))
}

// server answers a client's requests in turn.
type server struct {
	answers []string
	asked   bytes.Buffer
	out     bytes.Buffer
}

func (s *server) Write(b []byte) (int, error) {
	s.asked.Write(b)
	s.out.WriteString(s.answers[0])
	s.answers = s.answers[1:]
	return len(b), nil
}

func (s *server) Read(b []byte) (int, error) { return s.out.Read(b) }

func TestDialogue(t *testing.T) {
	s := &server{answers: []string{
		"RTSP/1.0 401 Unauthorized\r\nCSeq: 1\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"n\"\r\n\r\n",
		"$\x00\x00\x02hiRTSP/1.0 200 OK\r\nCSeq: 2\r\nSession: 77;timeout=12\r\n\r\n",
		"OPTIONS * RTSP/1.0\r\nCSeq: 9\r\n\r\n", "RTSP/1.0 404 Not Found\r\nCSeq: 3\r\n\r\n",
	}}
	c := NewClient(s, Credentials{"user", "secret"}, "abc")
	var frames []Frame
	c.Frame = func(f Frame) { frames = append(frames, f) }
	_, err := c.Do(Request("DESCRIBE", "rtsp://host/1"))
	require.NoError(t, err)
	assert.Equal(t, []Frame{{0, []byte("hi")}}, frames)
	assert.Equal(t, int64(12), int64(c.Timeout.Seconds()))
	_, err = c.Do(Request("SETUP", "rtsp://host/1/track"))
	var status *StatusError
	require.ErrorAs(t, err, &status)
	assert.Equal(t, 404, status.Status)
	text := s.asked.String()
	assert.Equal(t, 1, strings.Count(text, "RTSP/1.0 200 OK"), "the server's own request is answered")
	assert.Contains(t, text, "Session: 77\r\n")
	assert.NotContains(t, text, "secret")
	_, err = NewClient(&server{answers: []string{"RTSP/1.0 401 No\r\nCSeq: 1\r\n\r\n"}}, Credentials{}, "").Do(Request("DESCRIBE", "x"))
	assert.ErrorContains(t, err, "give them with the address")
}

func TestAddressesOfStreams(t *testing.T) {
	for _, c := range [][3]string{
		{"rtsp://h/a", "trackID=1", "rtsp://h/a/trackID=1"}, {"rtsp://h/a/", "trackID=1", "rtsp://h/a/trackID=1"},
		{"rtsp://h/a", "*", "rtsp://h/a"}, {"rtsp://h/a", "", "rtsp://h/a"}, {"rtsp://h/a", "rtsp://g/b", "rtsp://g/b"},
		{"rtsp://h/a?x=1", "trackID=1", "rtsp://h/a?x=1/trackID=1"},
	} {
		assert.Equal(t, c[2], Resolve(c[0], c[1]))
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("OPTIONS * RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP;client_port=1-2\r\n\r\n$\x00\x00\x01x"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		r := bufio.NewReader(bytes.NewReader(b))
		for {
			m, _, err := Read(r)
			if err != nil {
				return
			}
			if m != nil {
				ParseTransports(m.Header.Get("Transport"))
				readChallenges(m.Header.Values("Www-Authenticate"))
				m.BasicPassword()
				m.Marshal()
			}
		}
	})
}
