package control

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"metaplasis/internal/api"
	"metaplasis/internal/operations"
	"metaplasis/internal/records"
)

const cookieName = "metaplasis_session"

type (
	userKey   struct{}
	secretKey struct{}
)

// stillSignedIn reports whether the secret of a request that RequireUser let through is valid yet, for what goes on.
func (s *Service) stillSignedIn(r *http.Request) bool {
	secret, _ := r.Context().Value(secretKey{}).(string)
	_, err := s.Users.Token(r.Context(), secret, r.RemoteAddr)
	return !errors.Is(err, records.ErrNotFound)
}

// who returns the token of a request that RequireUser let through.
func who(r *http.Request) *records.Token {
	t, _ := r.Context().Value(userKey{}).(*records.Token)
	return t
}

// RequireUser lets requests through that carry a session cookie or a client's token.
func (s *Service) RequireUser(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		secret := ""
		if c, err := r.Cookie(cookieName); err == nil {
			secret = c.Value
		}
		if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			secret = bearer
		}
		if secret == "" {
			refuse(w, http.StatusUnauthorized, "not signed in",
				"Sign in at the console, or send a token in the header Authorization: Bearer TOKEN.")
			return
		}
		t, err := s.Users.Token(r.Context(), secret, r.RemoteAddr)
		if errors.Is(err, operations.ErrManyLookups) {
			w.Header().Set("Retry-After", "1")
			refuse(w, http.StatusTooManyRequests, err.Error(), "Try again in a second.")
			return
		}
		if errors.Is(err, records.ErrNotFound) {
			refuse(w, http.StatusUnauthorized, "the session or token is not valid any more", "Sign in again.")
			return
		}
		if err != nil {
			s.failed(w, err)
			return
		}
		ctx := context.WithValue(r.Context(), secretKey{}, secret)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, userKey{}, t)))
	})
}

// requireRole lets requests through whose bearer may do what a role may.
func requireRole(needed api.Role) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if role := operations.RoleOf(who(r)); !role.May(needed) {
				refuse(w, http.StatusForbidden, fmt.Sprintf("this is for the role %s, and yours is %s", needed, role),
					"Ask an administrator for that role.")
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

func signIn(q *request, in api.SignIn) (any, error) {
	me, secret, expires, err := q.Users.SignIn(q.ctx(), q.r.RemoteAddr, in)
	if err != nil {
		return nil, err
	}
	http.SetCookie(q.w, &http.Cookie{
		Name: cookieName, Value: secret, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: q.r.TLS != nil || q.r.Header.Get("X-Forwarded-Proto") == "https",
	})
	return me, nil
}

func signOut(q *request) (any, error) {
	http.SetCookie(q.w, &http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode})
	return nil, q.Users.SignOut(q.ctx(), q.token())
}
