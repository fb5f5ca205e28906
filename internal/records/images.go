package records

import (
	"context"
	"time"
)

// Image is an image for logos and slates.
type Image struct {
	Name    string    `db:"name"`
	File    []byte    `db:"file"` // PNG
	Created time.Time `db:"created"`
}

// keptImages is how many images are kept.
//
//limit:images | all | 422
const keptImages = 64

// Images returns all images.
func (d *DB) Images(ctx context.Context) ([]Image, error) {
	out := []Image{}
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM images ORDER BY name")
}

// PutImage stores an image, in place of one of the same name.
func (d *DB) PutImage(ctx context.Context, name string, file []byte) error {
	var others int
	if err := d.x.GetContext(ctx, &others, "SELECT COUNT(*) FROM images WHERE name <> ?", name); err != nil {
		return err
	}
	if others >= keptImages {
		return ErrFull
	}
	_, err := d.x.ExecContext(ctx, "REPLACE INTO images (name, file, created) VALUES (?, ?, UTC_TIMESTAMP(3))", name, file)
	return err
}

// RemoveImage deletes an image.
func (d *DB) RemoveImage(ctx context.Context, name string) error {
	return d.exec(ctx, "DELETE FROM images WHERE name = ?", name)
}
