package operations

import (
	"errors"
	"io"

	"metaplasis/internal/library"
)

// Items are the files of the library, on demand.
type Items struct{ files *library.Library }

// NewItems looks after a library.
func NewItems(l *library.Library) *Items { return &Items{l} }

// List lists the items.
func (x *Items) List() []library.Entry { return x.files.List() }

// Show returns an item.
func (x *Items) Show(name string) (library.Entry, error) {
	for _, e := range x.files.List() {
		if e.Name == name {
			return e, nil
		}
	}
	return library.Entry{}, noItem(name)
}

func noItem(name string) error {
	return refuse(NotFound, "metaplasis items list names those there are.", "there is no item %.80q", name)
}

// does makes a refusal of what the library says.
func does(name string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, library.ErrUnknown):
		return noItem(name)
	case errors.Is(err, library.ErrNoCoding), errors.Is(err, library.ErrCannot):
		return Refuse(Conflict, err.Error(), "")
	}
	return Refuse(Invalid, err.Error(), "")
}

// Encode encodes an item into a ladder in the background, of the usual heights or of those named.
func (x *Items) Encode(name string, heights []int) error {
	return does(name, x.files.StartCoding(name, heights))
}

// Pause lets the encoding of an item rest.
func (x *Items) Pause(name string) error { return does(name, x.files.PauseCoding(name)) }

// Resume goes on with the encoding of an item.
func (x *Items) Resume(name string) error { return does(name, x.files.ResumeCoding(name)) }

// Drop stops the encoding of an item, and removes what was made.
func (x *Items) Drop(name string) error { return does(name, x.files.DropCoding(name)) }

// Remove removes an item: its files, and what was encoded of them.
func (x *Items) Remove(name string) error { return does(name, x.files.Remove(name)) }

// Uploads lists the uploads that are under way.
func (x *Items) Uploads() ([]library.Upload, error) {
	list, err := x.files.Uploads()
	if list == nil {
		list = []library.Upload{}
	}
	return list, err
}

// BeginUpload begins an upload of a file of so many bytes.
func (x *Items) BeginUpload(name string, size int64) (library.Upload, error) {
	u, err := x.files.BeginUpload(name, size)
	return u, uploading(err)
}

// FindUpload returns an upload that is under way, or ended a while ago.
func (x *Items) FindUpload(id string) (library.Upload, error) {
	u, err := x.files.FindUpload(id)
	return u, uploading(err)
}

// Append takes a piece of an upload, of so many bytes, less than 0 when that is not known. file is the file's name once it is whole.
func (x *Items) Append(id string, offset, length int64, piece io.Reader, sum *library.Checksum) (u library.Upload, file string, err error) {
	if u, err := x.files.FindUpload(id); err == nil && u.Offset == offset && length > u.Size-u.Offset {
		return u, "", uploading(library.ErrTooLong)
	}
	u, file, err = x.files.Append(id, offset, piece, sum)
	return u, file, uploading(err)
}

// DropUpload gives an upload up.
func (x *Items) DropUpload(id string) error { return uploading(x.files.DropUpload(id)) }

// uploading makes a refusal of what the library says of an upload.
func uploading(err error) error {
	var at *library.OffsetError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, library.ErrNoUpload):
		return Refuse(NotFound, err.Error(), "")
	case errors.Is(err, library.ErrTooLong):
		return Refuse(TooLarge, err.Error(), "Send as many bytes as Upload-Length less Upload-Offset says.")
	case errors.Is(err, library.ErrChecksum):
		return Refuse(Mismatch, err.Error(), "Send the piece again from the same offset.")
	case errors.Is(err, library.ErrTooMany):
		return Refuse(TooMany, err.Error(), "")
	case errors.Is(err, library.ErrNoRoom):
		return Refuse(NoRoom, err.Error(), "Remove files, or give the library a larger disk.")
	case errors.Is(err, library.ErrUploadBusy):
		return Refuse(Locked, err.Error(), "Try again when it has ended.")
	case errors.As(err, &at):
		return Refuse(Conflict, err.Error(), "Ask where the upload is with HEAD.")
	}
	return Refuse(Invalid, err.Error(), "")
}
