package origin

import (
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"sync"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/settings"
)

// Images are those that channels may use, by name. They stay in memory, so that media waits for nothing else.
type Images struct {
	mu     sync.RWMutex
	byName map[string]layout.Image
}

// Set adds an image, or replaces it.
func (i *Images) Set(name string, file []byte) {
	sum := sha256.Sum256(file)
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.byName == nil {
		i.byName = map[string]layout.Image{}
	}
	i.byName[name] = layout.Image{Digest: hex.EncodeToString(sum[:8]), File: file}
}

// Remove takes an image away.
func (i *Images) Remove(name string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	delete(i.byName, name)
}

// Get returns an image.
func (i *Images) Get(name string) (layout.Image, bool) {
	i.mu.RLock()
	defer i.mu.RUnlock()
	img, ok := i.byName[name]
	return img, ok
}

// Names lists the images.
func (i *Images) Names() []string {
	i.mu.RLock()
	defer i.mu.RUnlock()
	return slices.Sorted(maps.Keys(i.byName))
}

// Users lists the channels that use an image.
func (o *Origin) Users(image string) (out []string) {
	for _, c := range o.Channels() {
		s := c.Settings()
		uses := slices.ContainsFunc(s.Ladder.Rungs, func(r ladder.Rung) bool { return r.Picture.Logo.Image == image }) ||
			slices.ContainsFunc(s.Inputs, func(in settings.Input) bool { return in.Kind == settings.InputSlate && in.File == image })
		if uses {
			out = append(out, c.Slug())
		}
	}
	return out
}

// Refresh lets the channels that use an image take it again, from the next segment on.
func (o *Origin) Refresh(image string) {
	for _, slug := range o.Users(image) {
		if c := o.Channel(slug); c != nil {
			_ = c.Apply(c.Settings()) // they are in force already
		}
	}
}
