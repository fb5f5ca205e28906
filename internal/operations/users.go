package operations

import (
	"cmp"
	"context"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/network"
	"metaplasis/internal/records"
)

// Users sign in, and have tokens for their programs.
type Users struct {
	desk      *Desk
	passwords *passwords
	throttle  *throttle
	trusted   knownTokens
	decoy     string // a hash that no password has: the same work for names that nobody has
}

// NewUsers looks after the users.
func NewUsers(d *Desk) *Users {
	return &Users{desk: d, passwords: newPasswords(), throttle: newThrottle(), decoy: HashPassword(records.NewSecret())}
}

// SessionLife is for how long somebody stays signed in.
const SessionLife = 14 * 24 * time.Hour

// ErrManyLookups says that a network presents too many secrets that nobody knows.
var ErrManyLookups = errors.New("too many unknown tokens and keys come from this network")

// RoleOf is what the bearer of a token may do: what the token may, and no more than its user.
func RoleOf(t *records.Token) api.Role {
	role := api.Role(t.Role)
	if owner := api.Role(t.Owner); !owner.May(role) {
		return owner
	}
	return role
}

// SignIn begins a session of somebody at an address, and returns its secret.
func (u *Users) SignIn(ctx context.Context, remote string, in api.SignIn) (me api.Me, secret string, expires time.Time, err error) {
	if len(in.Password) > maxPassword {
		return me, "", expires, refuse(Malformed, "", "found a password of %d bytes, expected %d at most", len(in.Password), maxPassword)
	}
	host := network.Of(remote)
	if !u.throttle.try(host, in.User) {
		return me, "", expires, Refuse(TooMany, "too many wrong attempts from this network, or for this user", "Wait five minutes, then try again.")
	}
	user, err := u.desk.DB.UserByName(ctx, in.User)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return me, "", expires, err
	}
	if user == nil {
		user = &records.User{Password: u.decoy} // the same work, so that names cannot be told by time
	}
	right, err := u.passwords.is(ctx, remote, user.Password, in.Password)
	if err != nil {
		return me, "", expires, err
	}
	if !right || user.ID == 0 {
		return me, "", expires, Refuse(SignedOut, "the user name or the password is wrong", "The first start printed them; metaplasis password sets a new one on the server.")
	}
	u.throttle.right(host, in.User)
	secret, expires = records.NewSecret(), time.Now().Add(SessionLife).UTC()
	if _, err := u.desk.DB.AddToken(ctx, user.ID, "console", "console", user.Role, secret, &expires); err != nil {
		return me, "", expires, err
	}
	return api.Me{User: user.Name, Role: api.Role(user.Role)}, secret, expires, nil
}

// SignOut ends a session, or revokes the token that is used.
func (u *Users) SignOut(ctx context.Context, t *records.Token) error {
	u.trusted.forget(t.ID)
	return u.desk.DB.RemoveToken(ctx, t.ID)
}

// ChangePassword changes the password of who bears a token, and ends all console sessions.
func (u *Users) ChangePassword(ctx context.Context, remote string, t *records.Token, in api.NewPassword) error {
	user, err := u.desk.DB.UserByName(ctx, t.User)
	if err != nil {
		return err
	}
	right, err := u.passwords.is(ctx, remote, user.Password, in.Old)
	if err != nil {
		return err
	}
	if !right {
		return Refuse(Forbidden, "the old password is wrong", "")
	}
	if err := newPassword(in.New); err != nil {
		return err
	}
	hash, err := u.passwords.hash(ctx, remote, in.New)
	if err != nil {
		return err
	}
	u.trusted.forget(anyToken)
	return u.desk.DB.SetPassword(ctx, user.ID, hash)
}

// checkRole says what is wrong with a role that was asked for, nil when nothing is.
func checkRole(r api.Role) error {
	if slices.Contains(api.Roles(), r) {
		return nil
	}
	return refuse(Malformed, "", "found the role %q, expected one of %v", r, api.Roles())
}

// For how many days tokens are valid.
const (
	usualToken = 365
	//limit:life of a token | each token | 422
	longestToken = 3660
)

// AddToken makes a token for a program of who bears another one; its secret is told once.
func (u *Users) AddToken(ctx context.Context, t *records.Token, in api.NewToken) (api.Token, error) {
	if err := checkLabel(in.Label); err != nil {
		return api.Token{}, err
	}
	mine := RoleOf(t)
	if in.Role == "" {
		in.Role = mine
	}
	if err := checkRole(in.Role); err != nil {
		return api.Token{}, err
	}
	if !mine.May(in.Role) {
		return api.Token{}, refuse(Forbidden, "", "a token of the role %s may do more than you, whose role is %s", in.Role, mine)
	}
	if in.Days < 0 || in.Days > longestToken {
		return api.Token{}, refuse(Malformed, "", "found %d days, expected 0 to %d", in.Days, longestToken)
	}
	secret := records.NewSecret()
	expires := time.Now().UTC().Truncate(time.Millisecond).Add(time.Duration(cmp.Or(in.Days, usualToken)) * 24 * time.Hour)
	id, err := u.desk.DB.AddToken(ctx, t.UserID, "client", in.Label, string(in.Role), secret, &expires)
	return api.Token{ID: id, Label: in.Label, User: t.User, Role: in.Role, Created: time.Now().UTC(), Expires: &expires, Secret: secret}, err
}

// Tokens lists one's own tokens; those of all for who administers.
func (u *Users) Tokens(ctx context.Context, t *records.Token) ([]api.Token, error) {
	list, err := u.desk.DB.Tokens(ctx)
	out := []api.Token{}
	for i := range list {
		if other := &list[i]; mayTouch(t, other) {
			out = append(out, api.Token{ID: other.ID, Label: other.Label, User: other.User, Role: RoleOf(other), Created: other.Created, Expires: other.Expires})
		}
	}
	return out, err
}

// mayTouch reports whether who bears a token may see and revoke another one.
func mayTouch(t, other *records.Token) bool {
	mine := RoleOf(t)
	return other.UserID == t.UserID && mine.May(RoleOf(other)) || mine.May(api.Administer)
}

// RemoveToken revokes a token.
func (u *Users) RemoveToken(ctx context.Context, t *records.Token, id int64) error {
	list, err := u.desk.DB.Tokens(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(other records.Token) bool { return other.ID == id && mayTouch(t, &other) }) {
		return records.ErrNotFound
	}
	err = u.desk.DB.RemoveToken(ctx, id)
	u.trusted.forget(id) // after it: what is asked for in between is not trusted again
	return err
}

var userForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// Add adds a user.
func (u *Users) Add(ctx context.Context, remote string, in api.NewUser) (api.User, error) {
	in.Name = strings.TrimSpace(in.Name)
	if !userForm.MatchString(in.Name) {
		return api.User{}, refuse(Malformed, "", "found the name %.70q, expected lower-case letters, digits, dots and hyphens, 63 at most", in.Name)
	}
	if err := checkRole(in.Role); err != nil {
		return api.User{}, err
	}
	if err := newPassword(in.Password); err != nil {
		return api.User{}, err
	}
	hash, err := u.passwords.hash(ctx, remote, in.Password)
	if err != nil {
		return api.User{}, err
	}
	if _, err := u.desk.DB.AddUser(ctx, in.Name, string(in.Role), hash); err != nil {
		return api.User{}, err
	}
	return api.User{Name: in.Name, Role: in.Role, Created: time.Now().UTC()}, nil
}

// List lists the users.
func (u *Users) List(ctx context.Context) ([]api.User, error) {
	list, err := u.desk.DB.Users(ctx)
	out := []api.User{}
	for _, one := range list {
		out = append(out, api.User{Name: one.Name, Role: api.Role(one.Role), Created: one.Created})
	}
	return out, err
}

// Remove removes a user with their sessions and tokens.
func (u *Users) Remove(ctx context.Context, t *records.Token, name string) error {
	if name == t.User {
		return Refuse(Conflict, "nobody removes their own user", "Let another administrator do it.")
	}
	err := u.desk.DB.RemoveUser(ctx, name)
	u.trusted.forget(anyToken) // after it: what is asked for in between is not trusted again
	return err
}
