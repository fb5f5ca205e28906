package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"metaplasis/internal/contribution/file"
	"metaplasis/internal/origin"
)

// FilesFolder is where the recordings of file inputs lie, inside the data folder.
const FilesFolder = "files"

// fileInputs lets the player of files reach the origin.
type fileInputs struct{ o *origin.Origin }

func (f fileInputs) Inputs() (out []file.Input) {
	for _, c := range f.o.Channels() {
		for _, name := range c.Files() {
			out = append(out, file.Input{Channel: c.Slug(), File: name})
		}
	}
	return out
}

func (f fileInputs) Vacant(in file.Input) bool {
	c := f.o.Channel(in.Channel)
	return c != nil && c.Vacant(in.File)
}

func (f fileInputs) Open(in file.Input) (file.Feed, error) {
	feed, err := f.o.OpenFile(in.Channel, in.File)
	if err != nil {
		return nil, err
	}
	return feed, nil
}

func (f fileInputs) Problem(in file.Input, text string) {
	if c := f.o.Channel(in.Channel); c != nil {
		c.InputProblem(in.File, text)
	}
}

// playFiles starts the player of file inputs.
func (s *Service) playFiles() error {
	folder := filepath.Join(s.conf.Data, FilesFolder)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("folder of files: %w", err)
	}
	p := &file.Player{Folder: folder, Channels: fileInputs{s.origin}}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	s.stop = append(s.stop, func() { cancel(); <-done })
	go func() {
		defer close(done)
		p.Run(ctx)
	}()
	return nil
}
