package records

import "context"

// Hook is a program that is told what happens. Body is JSON.
type Hook struct {
	ID   int64  `db:"id"`
	Body string `db:"body"`
}

// Hooks lists all.
func (d *DB) Hooks(ctx context.Context) ([]Hook, error) {
	out := []Hook{}
	return out, d.x.SelectContext(ctx, &out, "SELECT id, body FROM hooks ORDER BY id")
}

// AddHook stores one.
func (d *DB) AddHook(ctx context.Context, body string) (int64, error) {
	r, err := d.x.ExecContext(ctx, "INSERT INTO hooks (body, created) VALUES (?, UTC_TIMESTAMP(3))", body)
	if err != nil {
		return 0, err
	}
	return r.LastInsertId()
}

// RemoveHook deletes one.
func (d *DB) RemoveHook(ctx context.Context, id int64) error {
	return d.exec(ctx, "DELETE FROM hooks WHERE id = ?", id)
}
