package control

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/api"
	"metaplasis/internal/operations"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
)

// maxBody bounds what a request may send.
//
//limit:bytes of a request | each request | 413
const maxBody = 1 << 20

// longestAnswer bounds how long a request may wait for the database, or for an inspection.
const longestAnswer = operations.LongestInspection + 15*time.Second

// request is one call of the API.
type request struct {
	*Service
	w http.ResponseWriter
	r *http.Request
	// patient ends when the caller leaves, and not after longestAnswer.
	patient context.Context
}

func (q *request) ctx() context.Context { return q.r.Context() }

// param is a part of the path.
func (q *request) param(name string) string { return chi.URLParam(q.r, name) }

// query is a parameter behind the path.
func (q *request) query(name string) string { return q.r.URL.Query().Get(name) }

// token is that of who calls.
func (q *request) token() *records.Token { return who(q.r) }

// by is the user who calls.
func (q *request) by() string { return who(q.r).User }

// base is how the caller reached us, such as http://host:8780.
func (q *request) base() string { return base(q.r) }

// channel is the running channel of the path.
func (q *request) channel() (*origin.Channel, error) { return q.Channels.Find(q.param("channel")) }

// number is a part of the path that is a number.
func (q *request) number(name string) (int64, error) {
	n, err := strconv.ParseInt(q.param(name), 10, 64)
	if err != nil {
		return 0, malformed(fmt.Sprintf("found %q, expected a number", q.param(name)), "")
	}
	return n, nil
}

// limit is how many of a list are asked for.
func (q *request) limit() int {
	n, err := strconv.Atoi(q.query("limit"))
	if err != nil || n < 1 {
		return 100
	}
	return min(n, 1000)
}

func malformed(text, do string) error { return operations.Refuse(operations.Malformed, text, do) }

// read takes a JSON body whole, and refuses fields that it does not know.
func (q *request) read(into any) error {
	const do = "Send one JSON value as " + api.Prefix + "/openapi.json describes it."
	d := json.NewDecoder(http.MaxBytesReader(nil, q.r.Body, maxBody))
	d.DisallowUnknownFields()
	d.UseNumber() // an integer stays one
	err := d.Decode(into)
	var long *http.MaxBytesError
	if errors.As(err, &long) {
		return operations.Refuse(operations.TooLarge, fmt.Sprintf("found a body of more than %d bytes", maxBody), "Send less.")
	}
	if err != nil {
		return malformed("the body could not be read: "+err.Error(), do)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return malformed("found something behind the JSON value, expected the end of the body", do)
	}
	return nil
}

func write(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Cache-Control", "no-store")
	if body == nil {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, status int, text, do string) {
	write(w, status, api.Error{Text: text, Do: do})
}

// statuses are those of refusals. 460 is that of the tus protocol's checksum extension.
var statuses = map[operations.Kind]int{
	operations.Malformed: http.StatusBadRequest, operations.Invalid: http.StatusUnprocessableEntity, operations.NotFound: http.StatusNotFound,
	operations.Conflict: http.StatusConflict, operations.SignedOut: http.StatusUnauthorized, operations.Forbidden: http.StatusForbidden,
	operations.TooMany: http.StatusTooManyRequests, operations.TooLarge: http.StatusRequestEntityTooLarge, operations.Unavailable: http.StatusServiceUnavailable,
	operations.Locked: http.StatusLocked, operations.NoRoom: http.StatusInsufficientStorage, operations.Mismatch: 460,
}

// failed writes an error as an answer.
func (s *Service) failed(w http.ResponseWriter, err error) {
	var refused *operations.Error
	var invalid *settings.InvalidError
	switch {
	case errors.As(err, &refused):
		write(w, statuses[refused.Kind], refused.Body)
	case errors.As(err, &invalid):
		write(w, http.StatusUnprocessableEntity, api.Error{Text: "the settings were not applied",
			Problems: invalid.Problems, Do: "Correct what is listed, and send them again."})
	case errors.Is(err, records.ErrNotFound), errors.Is(err, origin.ErrUnknownChannel):
		refuse(w, http.StatusNotFound, "there is nothing of this name", "List what there is.")
	case errors.Is(err, records.ErrFull):
		refuse(w, http.StatusConflict, "there is no room for more of these", "Remove one that is not used.")
	case errors.Is(err, records.ErrExists), errors.Is(err, origin.ErrExists):
		refuse(w, http.StatusConflict, "the name is taken", "Choose another.")
	case records.Unreachable(err):
		w.Header().Set("Retry-After", "5")
		refuse(w, http.StatusServiceUnavailable, "the database does not answer now, so this cannot be done",
			"Try again in a while. Media, viewers and senders are not affected.")
	default:
		s.logger.Error("request failed", "error", err)
		refuse(w, http.StatusInternalServerError, "the service could not answer", "Look at the service's log.")
	}
}

// answer turns what a call returns into a response.
func (s *Service) answer(call func(*request) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), longestAnswer)
		defer cancel()
		body, err := call(&request{s, w, r.WithContext(ctx), r.Context()})
		if err != nil {
			s.failed(w, err)
			return
		}
		write(w, http.StatusOK, body)
	}
}

// with is a call whose body is read first.
func with[T any](call func(q *request, in T) (any, error)) func(*request) (any, error) {
	return func(q *request) (any, error) {
		var in T
		if err := q.read(&in); err != nil {
			return nil, err
		}
		return call(q, in)
	}
}

// on is a call about a running channel.
func on(call func(q *request, c *origin.Channel) (any, error)) func(*request) (any, error) {
	return func(q *request) (any, error) {
		c, err := q.channel()
		if err != nil {
			return nil, err
		}
		return call(q, c)
	}
}

// onWith is a call about a running channel, with a body.
func onWith[T any](call func(q *request, c *origin.Channel, in T) (any, error)) func(*request) (any, error) {
	return on(func(q *request, c *origin.Channel) (any, error) {
		return with(func(q *request, in T) (any, error) { return call(q, c, in) })(q)
	})
}

// of is a call about something with a number in the path.
func of(call func(q *request, id int64) (any, error)) func(*request) (any, error) {
	return func(q *request) (any, error) {
		id, err := q.number("id")
		if err != nil {
			return nil, err
		}
		return call(q, id)
	}
}
