package rtsp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/textproto"
	"net/url"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/media"
)

// Client is the dialogue of a client over a connection: one request at a time. It is not safe for concurrent use; what
// comes between answers goes to Frame.
type Client struct {
	Key   Credentials
	Frame func(Frame) // takes packets among messages, nil to drop them

	rw        io.ReadWriter
	r         *bufio.Reader
	seq       int
	challenge *challenge
	session   string
	// Timeout is after what time without a sign of life a server ends the session (RFC 2326, 12.37).
	Timeout time.Duration
	nonce   string
}

// usualTimeout is that of a server that does not say.
const usualTimeout = 60 * time.Second

// NewClient begins a dialogue; nonce is a number that nobody guesses, for sign-in.
func NewClient(rw io.ReadWriter, key Credentials, nonce string) *Client {
	return &Client{Key: key, rw: rw, r: bufio.NewReaderSize(rw, 64<<10), Timeout: usualTimeout, nonce: nonce}
}

// StatusError is an answer that is no success.
type StatusError struct {
	Status   int
	Reason   string
	Location string // of a redirection
}

// Refuses reports whether the other side does not take the user name and password.
func (e *StatusError) Refuses() bool { return e.Status == 401 || e.Status == 403 }

func (e *StatusError) Error() string {
	switch e.Status {
	case 401, 403:
		return "the other side refuses the user name and password"
	case 404:
		return "the other side has no such stream"
	case 461:
		return "the other side does not carry the stream in this way"
	}
	return fmt.Sprintf("the other side answered %d %s", e.Status, e.Reason)
}

// Request makes one.
func Request(method, address string) *Message {
	return &Message{Method: method, Address: address, Header: textproto.MIMEHeader{}}
}

// Send writes a request without waiting for its answer.
func (c *Client) Send(m *Message) error {
	c.seq++
	m.Header.Set("Cseq", strconv.Itoa(c.seq))
	m.Header.Set("User-Agent", "Metaplasis")
	if c.session != "" {
		m.Header.Set("Session", c.session)
	}
	if c.challenge != nil {
		m.Header.Set("Authorization", c.challenge.answer(c.Key, m.Method, m.Address, c.nonce))
	}
	_, err := c.rw.Write(m.Marshal())
	return err
}

// Do sends a request and returns its answer. It signs in where it is asked to.
func (c *Client) Do(m *Message) (*Message, error) {
	for attempt := 0; ; attempt++ {
		if err := c.Send(m); err != nil {
			return nil, err
		}
		answer, err := c.Await()
		if err != nil {
			return nil, err
		}
		if answer.Status == 401 && attempt == 0 && (c.Key.User != "" || c.Key.Password != "") {
			if c.challenge = readChallenges(answer.Header.Values("Www-Authenticate")); c.challenge != nil {
				continue
			}
			return nil, &media.UnsupportedError{Format: "RTSP", What: "the sign-in that the server asks for", Do: "set it to digest or basic"}
		}
		if answer.Status == 401 && attempt == 0 {
			return nil, errors.New("the other side asks for a user name and password: give them with the address")
		}
		if s := answer.Header.Get("Session"); s != "" {
			id, rest, _ := strings.Cut(s, ";")
			c.session = strings.TrimSpace(id)
			if _, text, ok := strings.Cut(rest, "timeout="); ok {
				if n, err := strconv.Atoi(strings.TrimSpace(text)); err == nil && n > 0 && n < 3600 {
					c.Timeout = time.Duration(n) * time.Second
				}
			}
		}
		if answer.Status < 200 || answer.Status > 299 {
			return answer, &StatusError{answer.Status, answer.Reason, answer.Header.Get("Location")}
		}
		return answer, nil
	}
}

// Await reads up to the next answer. Requests of the server are answered.
func (c *Client) Await() (*Message, error) {
	for {
		m, err := c.Next()
		if err != nil {
			return nil, err
		}
		if m != nil {
			return m, nil
		}
	}
}

// Next reads one message or frame; an answer is returned, nil of anything else.
func (c *Client) Next() (*Message, error) {
	m, f, err := Read(c.r)
	switch {
	case err != nil:
		return nil, err
	case f != nil:
		if c.Frame != nil {
			c.Frame(*f)
		}
		return nil, nil
	case m.Method != "":
		answer := m.Response(200, "OK")
		if m.Method != "OPTIONS" && m.Method != "GET_PARAMETER" && m.Method != "SET_PARAMETER" {
			answer = m.Response(501, "Not Implemented")
		}
		_, err := c.rw.Write(answer.Marshal())
		return nil, err
	}
	return m, nil
}

// Resolve makes the address of a stream from its control attribute and the base of its description (RFC 2326, C.1.1).
func Resolve(base, control string) string {
	if control == "" || control == "*" {
		return base
	}
	if u, err := url.Parse(control); err == nil && u.IsAbs() {
		return control
	}
	if !strings.HasSuffix(base, "/") && !strings.HasPrefix(control, "/") {
		base += "/"
	}
	return base + control
}
