package control

import (
	"cmp"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/records"
)

// roleOf is what the bearer of a token may do: what the token may, and no more than its user.
func roleOf(t *records.Token) api.Role {
	role := api.Role(t.Role)
	if owner := api.Role(t.Owner); !owner.May(role) {
		return owner
	}
	return role
}

// requireRole lets requests through whose bearer may do what a role may.
func (s *Service) requireRole(needed api.Role) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if role := roleOf(who(r)); !role.May(needed) {
				s.refuse(w, http.StatusForbidden, fmt.Sprintf("this is for the role %s, and yours is %s", needed, role),
					"Ask an administrator for that role.")
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// checkRole says what is wrong with a role that was asked for, nil when nothing is.
func checkRole(r api.Role) error {
	if slices.Contains(api.Roles(), r) {
		return nil
	}
	return fail(http.StatusBadRequest, fmt.Sprintf("found the role %q, expected one of %v", r, api.Roles()), "")
}

// For how many days tokens are valid.
const (
	usualToken = 365
	//limit:life of a token | each token | 422
	longestToken = 3660
)

func (s *Service) addToken(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in api.NewToken
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if err := checkLabel(in.Label); err != nil {
		return nil, err
	}
	mine := roleOf(who(r))
	if in.Role == "" {
		in.Role = mine
	}
	if err := checkRole(in.Role); err != nil {
		return nil, err
	}
	if !mine.May(in.Role) {
		return nil, fail(http.StatusForbidden, fmt.Sprintf("a token of the role %s may do more than you, whose role is %s", in.Role, mine), "")
	}
	if in.Days < 0 || in.Days > longestToken {
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("found %d days, expected 0 to %d", in.Days, longestToken), "")
	}
	secret := records.NewSecret()
	expires := time.Now().UTC().Truncate(time.Millisecond).Add(time.Duration(cmp.Or(in.Days, usualToken)) * 24 * time.Hour)
	id, err := s.db.AddToken(r.Context(), who(r).UserID, "client", in.Label, string(in.Role), secret, &expires)
	return api.Token{ID: id, Label: in.Label, User: who(r).User, Role: in.Role, Created: time.Now().UTC(), Expires: &expires, Secret: secret}, err
}

// tokens lists one's own tokens; those of all for who administers.
func (s *Service) tokens(_ http.ResponseWriter, r *http.Request) (any, error) {
	list, err := s.db.Tokens(r.Context())
	out := []api.Token{}
	for i := range list {
		if t := &list[i]; s.mayTouch(r, t) {
			out = append(out, api.Token{ID: t.ID, Label: t.Label, User: t.User, Role: roleOf(t), Created: t.Created, Expires: t.Expires})
		}
	}
	return out, err
}

func (s *Service) mayTouch(r *http.Request, t *records.Token) bool {
	mine := roleOf(who(r))
	return t.UserID == who(r).UserID && mine.May(roleOf(t)) || mine.May(api.Administer)
}

func (s *Service) removeToken(_ http.ResponseWriter, r *http.Request) (any, error) {
	id, err := number(r, "id")
	if err != nil {
		return nil, err
	}
	list, err := s.db.Tokens(r.Context())
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(list, func(t records.Token) bool { return t.ID == id && s.mayTouch(r, &t) }) {
		return nil, records.ErrNotFound
	}
	err = s.db.RemoveToken(r.Context(), id)
	s.trusted.forget(id) // after it: what is asked for in between is not trusted anew
	return nil, err
}

var userForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

func (s *Service) addUser(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in api.NewUser
	if err := read(r, &in); err != nil {
		return nil, err
	}
	in.Name = strings.TrimSpace(in.Name)
	if !userForm.MatchString(in.Name) {
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("found the name %.70q, expected lower-case letters, digits, dots and hyphens, 63 at most", in.Name), "")
	}
	if err := checkRole(in.Role); err != nil {
		return nil, err
	}
	if err := newPassword(in.Password); err != nil {
		return nil, err
	}
	hash := ""
	if err := s.hashes(r, func() { hash = HashPassword(in.Password) }); err != nil {
		return nil, err
	}
	if _, err := s.db.AddUser(r.Context(), in.Name, string(in.Role), hash); err != nil {
		return nil, err
	}
	return api.User{Name: in.Name, Role: in.Role, Created: time.Now().UTC()}, nil
}

// newPassword says what is wrong with a password to be, nil when nothing is.
func newPassword(text string) error {
	if len(text) < minPassword || len(text) > maxPassword {
		return fail(http.StatusBadRequest, fmt.Sprintf("found %d characters, expected %d to %d", len(text),
			minPassword, maxPassword), "Choose another password.")
	}
	return nil
}

func (s *Service) listUsers(_ http.ResponseWriter, r *http.Request) (any, error) {
	list, err := s.db.Users(r.Context())
	out := []api.User{}
	for _, u := range list {
		out = append(out, api.User{Name: u.Name, Role: api.Role(u.Role), Created: u.Created})
	}
	return out, err
}

func (s *Service) removeUser(_ http.ResponseWriter, r *http.Request) (any, error) {
	name := chi.URLParam(r, "user")
	if name == who(r).User {
		return nil, fail(http.StatusConflict, "nobody removes their own user", "Let another administrator do it.")
	}
	err := s.db.RemoveUser(r.Context(), name)
	s.trusted.forget(anyToken) // after it: what is asked for in between is not trusted anew
	return nil, err
}
