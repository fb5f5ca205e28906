package records

import (
	"context"
	"time"
)

// User is a user's record. Password is a hash.
type User struct {
	ID       int64     `db:"id"`
	Name     string    `db:"name"`
	Password string    `db:"password"`
	Role     string    `db:"role"`
	Created  time.Time `db:"created"`
}

// UserByName returns a user.
func (d *DB) UserByName(ctx context.Context, name string) (*User, error) {
	var u User
	if err := d.x.GetContext(ctx, &u, "SELECT id, name, password, role, created FROM users WHERE name = ?", name); err != nil {
		return nil, found(err)
	}
	return &u, nil
}

// AddUser stores a user.
func (d *DB) AddUser(ctx context.Context, name, role, hash string) (int64, error) {
	return d.insert(ctx, "INSERT INTO users (name, role, password, created) VALUES (?, ?, ?, UTC_TIMESTAMP(3))", name, role, hash)
}

// Users lists the users by their names.
func (d *DB) Users(ctx context.Context) ([]User, error) {
	out := []User{}
	return out, d.x.SelectContext(ctx, &out, "SELECT id, name, role, created FROM users ORDER BY name")
}

// RemoveUser deletes a user with his sessions and tokens.
func (d *DB) RemoveUser(ctx context.Context, name string) error {
	return d.exec(ctx, "DELETE FROM users WHERE name = ?", name)
}

// SetPassword changes a user's password hash and forgets the console sessions made with the old one.
func (d *DB) SetPassword(ctx context.Context, user int64, hash string) error {
	if _, err := d.x.ExecContext(ctx, "UPDATE users SET password = ? WHERE id = ?", hash, user); err != nil {
		return err
	}
	_, err := d.x.ExecContext(ctx, "DELETE FROM tokens WHERE user_id = ? AND kind IN ('console', 'client')", user)
	return err
}

// AnyUser reports whether there is a user at all.
func (d *DB) AnyUser(ctx context.Context) (bool, error) {
	var n int
	err := d.x.GetContext(ctx, &n, "SELECT COUNT(*) FROM users")
	return n > 0, err
}
