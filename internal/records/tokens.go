package records

import (
	"context"
	"time"
)

// Token is a token's record.
type Token struct {
	ID      int64      `db:"id" json:"id"`
	UserID  int64      `db:"user_id" json:"-"`
	Kind    string     `db:"kind" json:"kind"` // console or client
	Label   string     `db:"label" json:"label"`
	Created time.Time  `db:"created" json:"created"`
	Expires *time.Time `db:"expires" json:"expires,omitempty"`
	User    string     `db:"user" json:"user"`
	Role    string     `db:"role" json:"role"` // of the token
	Owner   string     `db:"owner" json:"-"`   // role of its user
}

// AddToken stores a token's digest. A nil expiry never comes.
func (d *DB) AddToken(ctx context.Context, user int64, kind, label, role, secret string, expires *time.Time) (int64, error) {
	return d.insert(ctx, "INSERT INTO tokens (user_id, kind, label, role, digest, created, expires) VALUES (?, ?, ?, ?, ?, UTC_TIMESTAMP(3), ?)",
		user, kind, label, role, Digest(secret), expires)
}

const selectTokens = "SELECT t.id, t.user_id, t.kind, t.label, t.created, t.expires, t.role, u.name AS user, u.role AS owner FROM tokens t JOIN users u ON u.id = t.user_id "

// TokenBySecret returns a token that has not expired.
func (d *DB) TokenBySecret(ctx context.Context, secret string) (*Token, error) {
	var t Token
	err := d.x.GetContext(ctx, &t, selectTokens+"WHERE t.digest = ? AND (t.expires IS NULL OR t.expires > UTC_TIMESTAMP(3))", Digest(secret))
	if err != nil {
		return nil, found(err)
	}
	return &t, nil
}

// Tokens lists the client tokens.
func (d *DB) Tokens(ctx context.Context) ([]Token, error) {
	out := []Token{}
	return out, d.x.SelectContext(ctx, &out, selectTokens+"WHERE t.kind = 'client' ORDER BY t.id")
}

// RemoveToken deletes a token.
func (d *DB) RemoveToken(ctx context.Context, id int64) error {
	return d.exec(ctx, "DELETE FROM tokens WHERE id = ?", id)
}
