package records

import (
	"context"
	"time"
)

// Plan is one version of a ladder plan. Body is JSON.
type Plan struct {
	Name    string    `db:"name"`
	Version int       `db:"version"`
	Body    string    `db:"body"`
	Author  string    `db:"author"`
	Created time.Time `db:"created"`
}

// keptVersions is how many versions of a plan are kept, keptPlans how many plans.
const (
	//limit:versions | each plan | the oldest are removed
	keptVersions = 50
	//limit:plans | all | 422
	keptPlans = 200
)

// AddPlan stores a plan as its next version, which it returns. Versions are never used twice, also when a plan was removed
// meanwhile.
func (d *DB) AddPlan(ctx context.Context, name, author string, body func(version int) (string, error)) (version int, err error) {
	tx, err := d.x.BeginTxx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback() }()
	var names int
	if err := tx.GetContext(ctx, &names, "SELECT COUNT(DISTINCT name) FROM plans WHERE name <> ? FOR UPDATE", name); err != nil {
		return 0, err
	}
	if names >= keptPlans {
		return 0, ErrFull
	}
	if err := tx.GetContext(ctx, &version, "SELECT COALESCE(MAX(version), 0) + 1 FROM plans WHERE name = ? FOR UPDATE", name); err != nil {
		return 0, err
	}
	text, err := body(version)
	if err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO plans (name, version, body, author, created) VALUES (?, ?, ?, ?, UTC_TIMESTAMP(3))", name, version, text, author); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM plans WHERE name = ? AND version <= ?", name, version-keptVersions); err != nil {
		return 0, err
	}
	return version, tx.Commit()
}

// Plans lists the newest version of each plan.
func (d *DB) Plans(ctx context.Context) ([]Plan, error) {
	out := []Plan{}
	return out, d.x.SelectContext(ctx, &out, `SELECT p.* FROM plans p JOIN (SELECT name, MAX(version) AS version FROM plans GROUP BY name) n
		ON n.name = p.name AND n.version = p.version WHERE p.body <> '' ORDER BY p.name`)
}

// PlanByName returns a version of a plan, the newest for 0.
func (d *DB) PlanByName(ctx context.Context, name string, version int) (*Plan, error) {
	var p Plan
	query, args := "SELECT * FROM plans WHERE name = ? AND body <> '' ORDER BY version DESC LIMIT 1", []any{name}
	if version > 0 {
		query, args = "SELECT * FROM plans WHERE name = ? AND body <> '' AND version = ?", []any{name, version}
	}
	if err := d.x.GetContext(ctx, &p, query, args...); err != nil {
		return nil, found(err)
	}
	return &p, nil
}

// RemovePlan empties all versions of a plan; their numbers stay taken.
func (d *DB) RemovePlan(ctx context.Context, name string) error {
	return d.exec(ctx, "UPDATE plans SET body = '' WHERE name = ? AND body <> ''", name)
}
