package library

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
)

// Upload is a file that comes in pieces.
type Upload struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"` // of the file
	Size    int64     `json:"size"` // bytes
	Offset  int64     `json:"offset"`
	Begun   time.Time `json:"begun"`
	Newest  time.Time `json:"newest"` // when something came
	Expires time.Time `json:"expires"`
	// File is the name that the file got once the upload was complete, "" before. What is known of it is kept for an hour, for who did
	// not hear of it.
	File string `json:"file,omitempty"`
}

// Bounds of uploads.
const (
	uploadFolder = ".uploads"
	//limit:uploads that are not complete | all | 422
	maxUploads = 64
	//limit:bytes | each upload | 422
	maxUpload = 1 << 40
	// uploadRests is for how long an upload is kept of which nothing comes.
	uploadRests = 24 * time.Hour
	// doneRests is for how long a complete one is remembered.
	doneRests = time.Hour
	//limit:uploads that are complete and remembered | all | the oldest are forgotten
	maxDone = 256
	// diskLeft is what uploads leave free of the disk, bytes.
	diskLeft = 1 << 30
)

// Errors of uploads.
var (
	ErrNoUpload   = errors.New("there is no such upload: it is complete, was removed, or rested for a day")
	ErrTooMany    = fmt.Errorf("found %d uploads at a time, expected less: finish some, or remove them", maxUploads)
	ErrNoRoom     = errors.New("the disk has no room for the file")
	ErrUploadBusy = errors.New("another request is sending the same upload")
)

// uploads are those that go on.
type uploads struct {
	mu   sync.Mutex
	busy map[string]bool // that somebody writes to now
}

func (l *Library) uploadFile(id, kind string) string { return path.Join(uploadFolder, id+kind) }

// BeginUpload begins an upload of a file of so many bytes.
func (l *Library) BeginUpload(name string, size int64) (u Upload, err error) {
	name = path.Base(strings.ReplaceAll(strings.TrimSpace(name), "\\", "/"))
	ending := strings.ToLower(path.Ext(name))
	switch {
	case name == "." || name == "/" || strings.HasPrefix(name, ".") || len(name) > 200 || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' }):
		return u, fmt.Errorf("found the file name %.80q, expected one of 200 letters at most", name)
	case !endings[ending] && !textEndings[ending]:
		return u, fmt.Errorf("found a file with the ending %.20q, expected media or subtitles: %s", ending, strings.Join(knownEndings(), " "))
	case size <= 0 || size > maxUpload:
		return u, fmt.Errorf("found a file of %d bytes, expected 1 to %d", size, int64(maxUpload))
	}
	root, err := l.root()
	if err != nil {
		return u, err
	}
	defer func() { _ = root.Close() }()
	l.uploads.mu.Lock()
	defer l.uploads.mu.Unlock()
	list, err := l.listUploads(root)
	if err != nil {
		return u, err
	}
	if len(list) >= maxUploads {
		return u, ErrTooMany
	}
	wanted := size
	for _, o := range list {
		wanted += o.Size - o.Offset
	}
	if free := freeBytes(l.folder); free >= 0 && wanted > free-diskLeft {
		return u, ErrNoRoom
	}
	now := time.Now().UTC()
	u = Upload{ID: rand.Text(), Name: name, Size: size, Begun: now, Newest: now, Expires: now.Add(uploadRests)}
	f, err := root.Create(l.uploadFile(u.ID, ".part"))
	if err != nil {
		return u, err
	}
	if err := f.Close(); err != nil {
		return u, err
	}
	return u, l.noteUpload(root, &u)
}

// root opens the folder, which is made when there is none.
func (l *Library) root() (*os.Root, error) {
	if err := os.MkdirAll(path.Join(l.folder, uploadFolder), 0o755); err != nil {
		return nil, err
	}
	return os.OpenRoot(l.folder)
}

func (l *Library) noteUpload(root *os.Root, u *Upload) error {
	b, err := json.Marshal(u)
	if err != nil {
		return err
	}
	return root.WriteFile(l.uploadFile(u.ID, ".json"), b, 0o644)
}

// listUploads lists those that are not complete, and removes those that rested too long. It needs the lock.
func (l *Library) listUploads(root *os.Root) (out []Upload, err error) {
	names, err := fs.ReadDir(root.FS(), uploadFolder)
	if err != nil {
		return nil, err
	}
	var done []Upload
	for _, d := range names {
		id, ok := strings.CutSuffix(d.Name(), ".json")
		if !ok {
			continue
		}
		u, err := l.upload(root, id)
		if err == nil && time.Now().After(u.Expires) && !l.uploads.busy[id] {
			l.dropUpload(root, id)
			continue
		}
		switch {
		case err != nil:
		case u.File != "":
			done = append(done, u)
		default:
			out = append(out, u)
		}
	}
	slices.SortFunc(done, func(a, b Upload) int { return a.Newest.Compare(b.Newest) })
	for _, u := range done[:max(len(done)-maxDone, 0)] {
		l.dropUpload(root, u.ID)
	}
	slices.SortFunc(out, func(a, b Upload) int { return a.Begun.Compare(b.Begun) })
	return out, nil
}

func (l *Library) dropUpload(root *os.Root, id string) {
	_ = root.Remove(l.uploadFile(id, ".json"))
	_ = root.Remove(l.uploadFile(id, ".part"))
}

// upload reads what is known of an upload.
func (l *Library) upload(root *os.Root, id string) (u Upload, err error) {
	if id == "" || strings.ContainsAny(id, "./\\") || len(id) > 64 {
		return u, ErrNoUpload
	}
	b, err := root.ReadFile(l.uploadFile(id, ".json"))
	if err != nil || json.Unmarshal(b, &u) != nil {
		return u, ErrNoUpload
	}
	if u.File != "" {
		u.Offset, u.Expires = u.Size, u.Newest.Add(doneRests)
		return u, nil
	}
	info, err := root.Stat(l.uploadFile(id, ".part"))
	if err != nil {
		return u, ErrNoUpload
	}
	u.Offset, u.Newest = info.Size(), info.ModTime().UTC()
	u.Expires = u.Newest.Add(uploadRests)
	return u, nil
}

// Uploads lists those that are not complete.
func (l *Library) Uploads() ([]Upload, error) {
	root, err := l.root()
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	l.uploads.mu.Lock()
	defer l.uploads.mu.Unlock()
	return l.listUploads(root)
}

// FindUpload says how far an upload came.
func (l *Library) FindUpload(id string) (Upload, error) {
	root, err := l.root()
	if err != nil {
		return Upload{}, err
	}
	defer func() { _ = root.Close() }()
	return l.upload(root, id)
}

// DropUpload removes an upload.
func (l *Library) DropUpload(id string) error {
	root, err := l.root()
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	if _, err := l.upload(root, id); err != nil {
		return err
	}
	l.uploads.mu.Lock()
	defer l.uploads.mu.Unlock()
	if l.uploads.busy[id] {
		return ErrUploadBusy
	}
	l.dropUpload(root, id)
	return nil
}

// OffsetError says that a piece does not go on where the upload is.
type OffsetError struct{ Found, Want int64 }

func (e *OffsetError) Error() string {
	return fmt.Sprintf("found a piece from byte %d on, expected one from byte %d on", e.Found, e.Want)
}

// Errors of a piece.
var (
	// ErrTooLong says that a piece has more bytes than the file has left. Nothing of it is kept.
	ErrTooLong = errors.New("the piece has more bytes than are left of the file")
	// ErrChecksum says that a piece is not what its checksum says. Nothing of it is kept.
	ErrChecksum = errors.New("the piece is not what its checksum says")
)

// Checksum is what a piece has to be, nil for one that says nothing.
type Checksum struct {
	Hash hash.Hash
	Want []byte
}

// Append adds a piece of an upload from a byte on. What came before r failed stays, unless a checksum tells of the whole piece. The last
// piece puts the file into the library: the name that it got is the second value then.
func (l *Library) Append(id string, offset int64, r io.Reader, sum *Checksum) (u Upload, file string, err error) {
	root, err := l.root()
	if err != nil {
		return u, "", err
	}
	defer func() { _ = root.Close() }()
	l.uploads.mu.Lock()
	if l.uploads.busy[id] {
		l.uploads.mu.Unlock()
		return u, "", ErrUploadBusy
	}
	if l.uploads.busy == nil {
		l.uploads.busy = map[string]bool{}
	}
	l.uploads.busy[id] = true
	l.uploads.mu.Unlock()
	defer func() {
		l.uploads.mu.Lock()
		delete(l.uploads.busy, id)
		l.uploads.mu.Unlock()
	}()
	if u, err = l.upload(root, id); err != nil {
		return u, "", err
	}
	if offset != u.Offset {
		return u, "", &OffsetError{offset, u.Offset}
	}
	if u.File != "" { // it was complete before, and somebody did not hear of it
		if n, _ := io.CopyN(io.Discard, r, 1); n > 0 {
			return u, "", ErrTooLong
		}
		return u, u.File, nil
	}
	f, err := root.OpenFile(l.uploadFile(id, ".part"), os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return u, "", err
	}
	from := io.LimitReader(r, u.Size-u.Offset)
	if sum != nil {
		from = io.TeeReader(from, sum.Hash)
	}
	n, err := io.Copy(f, from)
	if err == nil && u.Offset+n == u.Size {
		if more, _ := io.CopyN(io.Discard, r, 1); more > 0 {
			err = ErrTooLong
		}
	}
	if sum != nil && err == nil && !bytes.Equal(sum.Hash.Sum(nil), sum.Want) {
		err = ErrChecksum
	}
	if errors.Is(err, ErrTooLong) || sum != nil && err != nil {
		return u, "", errors.Join(err, f.Truncate(u.Offset), f.Close())
	}
	u.Offset += n
	whole := u.Offset == u.Size
	if whole && err == nil {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return u, "", err
	}
	if !whole {
		return u, "", nil
	}
	file, err = place(root, l.uploadFile(id, ".part"), u.Name)
	if err != nil {
		return u, "", err
	}
	u.File, u.Newest = file, time.Now().UTC()
	return u, file, l.noteUpload(root, &u)
}

// place gives a file a name that no other one has.
func place(root *os.Root, from, name string) (string, error) {
	base := strings.TrimSuffix(name, path.Ext(name))
	for n := 1; n < 1000; n++ {
		to := name
		if n > 1 {
			to = fmt.Sprintf("%s (%d)%s", base, n, path.Ext(name))
		}
		err := root.Link(from, to) // it fails when there is one
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil { // a file system without links
			if _, there := root.Stat(to); there == nil {
				continue
			}
			return to, root.Rename(from, to)
		}
		return to, root.Remove(from)
	}
	return "", fmt.Errorf("found a thousand files of the name %s", name)
}

// knownEndings lists those of files that the library takes.
func knownEndings() (out []string) {
	for _, m := range []map[string]bool{endings, textEndings} {
		for e := range m {
			out = append(out, e)
		}
	}
	slices.Sort(out)
	return out
}
