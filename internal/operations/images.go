package operations

import (
	"context"
	"fmt"
	"sync"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/overlay"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
)

// Images are the picture files for logos and slates.
type Images struct {
	db     *records.DB
	origin *origin.Origin
	setup  sync.Mutex // one change of channels and of what they use at a time
}

// NewImages gives an origin the stored images, and looks after them.
func NewImages(ctx context.Context, db *records.DB, o *origin.Origin) (*Images, error) {
	list, err := db.Images(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the images: %w", err)
	}
	for _, img := range list {
		o.Images.Set(img.Name, img.File)
	}
	return &Images{db: db, origin: o}, nil
}

// problems names the images of rungs and inputs that there are not.
func (i *Images) problems(rungs []ladder.Rung, inputs []settings.Input) (out []ladder.Problem) {
	check := func(field, name string) {
		if _, ok := i.origin.Images.Get(name); name != "" && !ok {
			out = append(out, ladder.Problem{Field: field, Text: fmt.Sprintf("found %.40q, expected the name of an image that was added, %v", name, i.origin.Images.Names())})
		}
	}
	for n, r := range rungs {
		check(fmt.Sprintf("rungs[%d].picture.logo.image", n), r.Picture.Logo.Image)
	}
	for n, in := range inputs {
		if in.Kind == settings.InputSlate {
			check(fmt.Sprintf("inputs.%d", n), in.File)
		}
	}
	return out
}

// List lists the images with the channels that use them.
func (i *Images) List() []api.Image {
	out := []api.Image{}
	for _, name := range i.origin.Images.Names() {
		if one, ok := i.describe(name); ok {
			out = append(out, one)
		}
	}
	return out
}

func (i *Images) describe(name string) (api.Image, bool) {
	img, ok := i.origin.Images.Get(name)
	return api.Image{Name: name, Digest: img.Digest, Bytes: len(img.File), Channels: i.origin.Users(name)}, ok
}

// File is an image's file.
func (i *Images) File(name string) ([]byte, error) {
	img, ok := i.origin.Images.Get(name)
	if !ok {
		return nil, records.ErrNotFound
	}
	return img.File, nil
}

// Put adds an image, or replaces it: what uses it takes it from the next segment on.
func (i *Images) Put(ctx context.Context, name string, file []byte) (api.Image, error) {
	if text := ladder.CheckImageName(name); text != "" {
		return api.Image{}, Refuse(Malformed, text, "Choose another name.")
	}
	if err := overlay.CheckImage(file); err != nil {
		return api.Image{}, Refuse(Invalid, "the image cannot be used: "+err.Error(), "Send a PNG file.")
	}
	i.setup.Lock()
	defer i.setup.Unlock()
	if err := i.db.PutImage(ctx, name, file); err != nil {
		return api.Image{}, err
	}
	i.origin.Images.Set(name, file)
	i.origin.Refresh(name)
	out, _ := i.describe(name)
	return out, nil
}

// Remove removes an image that nothing uses.
func (i *Images) Remove(ctx context.Context, name string) error {
	i.setup.Lock()
	defer i.setup.Unlock()
	if users := i.origin.Users(name); len(users) > 0 {
		return refuse(Conflict, "Take it out of their ladders and inputs first.", "the image is used by %v", users)
	}
	if err := i.db.RemoveImage(ctx, name); err != nil {
		return err
	}
	i.origin.Images.Remove(name)
	return nil
}
