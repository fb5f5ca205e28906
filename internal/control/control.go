// Package control is the HTTP API of the service: routes, sign-in, encoding of bodies, live updates, and an OpenAPI document made
// from the same table as the routes. What is done, package operations does: a request comes in, an operation is called, and what it
// returns or refuses is written.
package control

import (
	"log/slog"
	"net/http"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/api"
	"metaplasis/internal/operations"
)

// Operations are what the API offers. Studio is nil when the studio's network is not looked at.
type Operations struct {
	Users       *operations.Users
	Channels    *operations.Channels
	Keys        *operations.Keys
	Plans       *operations.Plans
	Images      *operations.Images
	Recordings  *operations.Recordings
	Relays      *operations.Relays
	Items       *operations.Items
	Hooks       *operations.Hooks
	Trials      *operations.Trials
	Inspections *operations.Inspections
	History     *operations.History
	Watch       *operations.Watch
	Log         *operations.Log
	Studio      Studio
}

// Service answers the API.
type Service struct {
	Operations
	ports  Ports
	board  *board
	logger *slog.Logger
}

// New makes the API of a service whose senders and receivers come to these ports.
func New(o Operations, ports Ports, logger *slog.Logger) *Service {
	s := &Service{Operations: o, ports: ports, logger: logger}
	s.board = newBoard(s.snapshot)
	o.Log.Listen(s.board.event)
	return s
}

// Handler serves the API below api.Prefix.
func (s *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(http.NewCrossOriginProtection().Handler, private)
	protected := r.With(s.RequireUser)
	for _, rt := range routes() {
		to := protected.With(requireRole(rt.role))
		if rt.role == anyone {
			to = r
		}
		to.Method(rt.method, rt.path, s.answer(rt.handle))
	}
	protected.Get("/live", func(w http.ResponseWriter, req *http.Request) { s.live(w, req, r) })
	protected.With(requireRole(api.Watch)).Get("/export/{what}", s.export)
	s.uploadRoutes(protected.With(requireRole(api.Operate)))
	protected.With(requireRole(api.Watch)).Get("/studio/{source}/picture", s.studioPicture)
	document := openAPI()
	r.Get("/openapi.json", func(w http.ResponseWriter, _ *http.Request) { write(w, http.StatusOK, document) })
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
		refuse(w, http.StatusNotFound, "there is no such call", "See "+api.Prefix+"/openapi.json.")
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		refuse(w, http.StatusMethodNotAllowed, r.Method+" is not a method of this call", "See "+api.Prefix+"/openapi.json.")
	})
	return r
}

// private keeps browsers from taking an answer for anything but data (Fetch standard, 3.6; Content
// Security Policy, level 3).
func private(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
		next.ServeHTTP(w, r)
	})
}
