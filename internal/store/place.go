package store

import (
	"cmp"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Place is where files lie. Names have slashes between their parts; none begins with one.
type Place interface {
	// Create makes a file, or makes it again.
	Create(name string) (File, error)
	// Open reads a file from a byte on, so many bytes.
	Open(name string, offset, size int64) (io.ReadSeekCloser, error)
	// List names what lies in a folder: files with their sizes, and folders with a slash behind. A folder that
	// is not there is empty.
	List(folder string) ([]Entry, error)
	// Size returns the size of a file, fs.ErrNotExist when there is none.
	Size(name string) (int64, error)
	// Truncate cuts a file off.
	Truncate(name string, size int64) error
	// Remove removes a file, and the folders that it leaves empty. One that is not there is none to remove.
	Remove(name string) error
	// String says where the place is, without secrets.
	String() string
}

// File is a file that is being written.
type File interface {
	io.Writer
	// Readable returns how many of the bytes written can be read by now: those of an object store none before
	// it is closed.
	Readable() int64
	// Close lets the file last: what was written survives a loss of power.
	Close() error
}

// identityFile names the file that tells one place from all others.
const identityFile = "metaplasis-store.json"

// Identity returns what tells a place from all others, however its address is spelled. It is made when there is none.
func Identity(p Place) (string, error) {
	var id struct {
		ID string `json:"id"`
	}
	size, err := p.Size(identityFile)
	if err == nil {
		in, err := p.Open(identityFile, 0, min(size, 4096))
		if err != nil {
			return "", fmt.Errorf("the store at %s: %w", p, err)
		}
		defer func() { _ = in.Close() }()
		if err := json.NewDecoder(in).Decode(&id); err != nil || id.ID == "" {
			return "", fmt.Errorf("the store at %s: found a file %s without an id, expected one that this program wrote: %w", p, identityFile, cmp.Or(err, io.ErrUnexpectedEOF))
		}
		return id.ID, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("the store at %s: %w", p, err)
	}
	id.ID = rand.Text()
	f, err := p.Create(identityFile)
	if err != nil {
		return "", fmt.Errorf("the store at %s: %w", p, err)
	}
	err = json.NewEncoder(f).Encode(id)
	if err = errors.Join(err, f.Close()); err != nil {
		return "", fmt.Errorf("the store at %s: %w", p, err)
	}
	return id.ID, nil
}

// Entry is a file or folder of a place.
type Entry struct {
	Name string // the last part of it, of a folder with a slash behind
	Size int64
}

// Folder is a place on a file system.
type Folder string

// String implements Place.
func (f Folder) String() string { return string(f) }

func (f Folder) path(name string) string { return filepath.Join(string(f), filepath.FromSlash(name)) }

// Create implements Place.
func (f Folder) Create(name string) (File, error) {
	path := f.path(name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	file, err := os.Create(path)
	if err != nil {
		return nil, err
	}
	return &onDisk{File: file}, nil
}

// onDisk is a file that is being written to a folder.
type onDisk struct {
	*os.File
	written int64
}

func (d *onDisk) Write(b []byte) (int, error) {
	n, err := d.File.Write(b)
	d.written += int64(n)
	return n, err
}

func (d *onDisk) Readable() int64 { return d.written }

func (d *onDisk) Close() error {
	err := d.Sync()
	return errors.Join(err, d.File.Close())
}

// Open implements Place.
func (f Folder) Open(name string, offset, size int64) (io.ReadSeekCloser, error) {
	file, err := os.Open(f.path(name))
	if err != nil {
		return nil, err
	}
	return &piece{SectionReader: io.NewSectionReader(file, offset, size), File: file, offset: offset}, nil
}

// piece is a stretch of a file.
type piece struct {
	*io.SectionReader
	File   *os.File
	offset int64
}

// Close implements io.Closer.
func (p *piece) Close() error { return p.File.Close() }

// WriteTo writes what is left. Where the kernel can it copies from file to socket by itself.
func (p *piece) WriteTo(w io.Writer) (int64, error) {
	at, err := p.Seek(0, io.SeekCurrent)
	if err != nil {
		return 0, err
	}
	if _, err := p.File.Seek(p.offset+at, io.SeekStart); err != nil {
		return 0, err
	}
	n, err := io.Copy(w, io.LimitReader(p.File, p.Size()-at))
	if _, back := p.Seek(at+n, io.SeekStart); err == nil {
		err = back
	}
	return n, err
}

// List implements Place.
func (f Folder) List(folder string) (out []Entry, err error) {
	list, err := os.ReadDir(f.path(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if e.IsDir() {
			out = append(out, Entry{Name: e.Name() + "/"})
			continue
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, Entry{Name: e.Name(), Size: info.Size()})
	}
	return out, nil
}

// Size implements Place.
func (f Folder) Size(name string) (int64, error) {
	info, err := os.Stat(f.path(name))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// Truncate implements Place.
func (f Folder) Truncate(name string, size int64) error { return os.Truncate(f.path(name), size) }

// Remove implements Place.
func (f Folder) Remove(name string) error {
	if err := os.Remove(f.path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for i := strings.LastIndexByte(name, '/'); i > 0; i = strings.LastIndexByte(name[:i], '/') {
		if os.Remove(f.path(name[:i])) != nil {
			break // it is not empty
		}
	}
	return nil
}
