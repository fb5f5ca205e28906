package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"metaplasis/internal/library"
	"metaplasis/internal/origin"
	"metaplasis/internal/protocol/file"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
)

// FilesFolder is where the recordings of file inputs lie, inside the data folder.
const FilesFolder = "files"

// playedInputs lets the player reach the inputs of the origin that play by themselves.
type playedInputs struct {
	o      *origin.Origin
	folder string
	items  *library.Library
}

func (p playedInputs) Inputs() (out []file.Input) {
	for _, c := range p.o.Channels() {
		for _, in := range c.Players() {
			out = append(out, file.Input{Channel: c.Slug(), Kind: in.Kind, File: in.File})
		}
	}
	return out
}

func inputOf(in file.Input) settings.Input { return settings.Input{Kind: in.Kind, File: in.File} }

func (p playedInputs) Vacant(in file.Input) bool {
	c := p.o.Channel(in.Channel)
	return c != nil && c.Vacant(inputOf(in))
}

func (p playedInputs) Open(in file.Input) (file.Feed, error) {
	feed, err := p.o.OpenPlayer(in.Channel, inputOf(in))
	if err != nil {
		return nil, err
	}
	return feed, nil
}

func (p playedInputs) Problem(in file.Input, text string) {
	if c := p.o.Channel(in.Channel); c != nil {
		c.InputProblem(inputOf(in), text)
	}
}

// Load reads a file from the folder, or makes a slate: as the channel's last feed was, in a process of its own.
func (p playedInputs) Load(ctx context.Context, in file.Input) (file.Recording, error) {
	if in.Kind == settings.InputItems {
		return p.playlist(in.File)
	}
	if in.Kind != settings.InputSlate {
		return file.Load(filepath.Join(p.folder, filepath.Base(in.File)))
	}
	c := p.o.Channel(in.Channel)
	if c == nil {
		return nil, origin.ErrUnknownChannel
	}
	r, ok := c.Slate(in.File)
	if !ok {
		return nil, errors.New("there is no image of this name")
	}
	b, err := worker.MakeSlate(ctx, p.o.Worker, r)
	if err != nil {
		return nil, err
	}
	return file.Parse(b)
}

// playlist makes a recording of items of the library.
func (p playedInputs) playlist(names string) (file.Recording, error) {
	var list []file.Named
	for name := range strings.SplitSeq(names, "+") {
		it, why := p.items.Item(name)
		if it == nil {
			return nil, fmt.Errorf("item %s: %s", name, why)
		}
		list = append(list, file.Named{Name: name, Item: it})
	}
	return file.Playlist(list)
}

// playFiles starts the player of files and slates.
func (s *Service) playFiles() error {
	folder := filepath.Join(s.conf.Data, FilesFolder)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("folder of files: %w", err)
	}
	p := &file.Player{Channels: playedInputs{s.origin, folder, s.files}}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	s.stop = append(s.stop, func() { cancel(); <-done })
	go func() {
		defer close(done)
		p.Run(ctx)
	}()
	return nil
}
