package control

import (
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/api"
	"metaplasis/internal/library"
)

// Files come into the library by the tus resumable upload protocol, version 1.0.0, with its extensions creation, creation-with-upload,
// termination and expiration: what a connection lost is sent from where it broke off.

const (
	tusVersion    = "1.0.0"
	tusExtensions = "creation,creation-with-upload,termination,expiration,checksum"
	tusContent    = "application/offset+octet-stream"
	uploadsPath   = "/uploads"
	// pieceWait is for how long nothing may come of a piece that is being sent.
	pieceWait = 30 * time.Second
)

func (s *Service) uploadRoutes(r chi.Router) {
	r.Route(uploadsPath, func(r chi.Router) {
		r.Use(s.tus)
		r.Options("/", s.uploadOptions)
		r.Get("/", s.answer(func(q *request) (any, error) { return q.Items.Uploads() }))
		r.Post("/", s.beginUpload)
		r.Head("/{upload}", s.headUpload)
		r.Patch("/{upload}", s.appendUpload)
		r.Delete("/{upload}", s.dropUpload)
	})
}

// tus checks and tells the version of the protocol.
func (s *Service) tus(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Tus-Resumable", tusVersion)
		if r.Method != http.MethodOptions && r.Method != http.MethodGet && r.Header.Get("Tus-Resumable") != tusVersion {
			w.Header().Set("Tus-Version", tusVersion)
			refuse(w, http.StatusPreconditionFailed, fmt.Sprintf("found Tus-Resumable %.20q, expected %s", r.Header.Get("Tus-Resumable"), tusVersion), "Send the header Tus-Resumable.")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Service) uploadOptions(w http.ResponseWriter, _ *http.Request) {
	h := w.Header()
	h.Set("Tus-Version", tusVersion)
	h.Set("Tus-Extension", tusExtensions)
	h.Set("Tus-Checksum-Algorithm", "sha1,sha256")
	w.WriteHeader(http.StatusNoContent)
}

// checksum reads what a piece has to be: an algorithm and a sum in base64.
func checksum(r *http.Request) (*library.Checksum, error) {
	text := r.Header.Get("Upload-Checksum")
	if text == "" {
		return nil, nil
	}
	name, sum, _ := strings.Cut(strings.TrimSpace(text), " ")
	c := &library.Checksum{}
	switch strings.ToLower(name) {
	case "sha1":
		c.Hash = sha1.New() // what senders of this protocol know; it guards against accidents, not against attackers
	case "sha256":
		c.Hash = sha256.New()
	default:
		return nil, fmt.Errorf("found the checksum algorithm %.20q, expected sha1 or sha256", name)
	}
	var err error
	if c.Want, err = base64.StdEncoding.DecodeString(strings.TrimSpace(sum)); err != nil || len(c.Want) != c.Hash.Size() {
		return nil, fmt.Errorf("found a checksum of %d bytes, expected %d in base64", len(c.Want), c.Hash.Size())
	}
	return c, nil
}

// metadata reads "key base64,key base64".
func metadata(text string) map[string]string {
	out := map[string]string{}
	for pair := range strings.SplitSeq(text, ",") {
		key, value, _ := strings.Cut(strings.TrimSpace(pair), " ")
		if b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(value)); err == nil && key != "" {
			out[key] = string(b)
		}
	}
	return out
}

func (s *Service) beginUpload(w http.ResponseWriter, r *http.Request) {
	size, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64)
	if err != nil {
		refuse(w, http.StatusBadRequest, fmt.Sprintf("found Upload-Length %.20q, expected the file's bytes", r.Header.Get("Upload-Length")), "A length that is not known yet is not taken.")
		return
	}
	meta := metadata(r.Header.Get("Upload-Metadata"))
	name := meta["filename"]
	if name == "" {
		name = meta["name"]
	}
	u, err := s.Items.BeginUpload(name, size)
	if err != nil {
		s.failed(w, err)
		return
	}
	w.Header().Set("Location", api.Prefix+uploadsPath+"/"+u.ID)
	w.Header().Set("Upload-Expires", u.Expires.Format(http.TimeFormat))
	if r.Header.Get("Content-Type") == tusContent {
		s.piece(w, r, u.ID, 0, http.StatusCreated)
		return
	}
	w.WriteHeader(http.StatusCreated)
}

func (s *Service) headUpload(w http.ResponseWriter, r *http.Request) {
	u, err := s.Items.FindUpload(chi.URLParam(r, "upload"))
	if err != nil {
		s.failed(w, err)
		return
	}
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("Upload-Offset", strconv.FormatInt(u.Offset, 10))
	h.Set("Upload-Length", strconv.FormatInt(u.Size, 10))
	h.Set("Upload-Expires", u.Expires.Format(http.TimeFormat))
	w.WriteHeader(http.StatusOK)
}

func (s *Service) appendUpload(w http.ResponseWriter, r *http.Request) {
	if kind := r.Header.Get("Content-Type"); kind != tusContent {
		refuse(w, http.StatusUnsupportedMediaType, fmt.Sprintf("found the content type %.40q, expected %s", kind, tusContent), "")
		return
	}
	offset, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || offset < 0 {
		refuse(w, http.StatusBadRequest, fmt.Sprintf("found Upload-Offset %.20q, expected a number of bytes", r.Header.Get("Upload-Offset")), "Ask where the upload is with HEAD.")
		return
	}
	s.piece(w, r, chi.URLParam(r, "upload"), offset, http.StatusNoContent)
}

// piece takes a piece, for as long as something of it comes.
func (s *Service) piece(w http.ResponseWriter, r *http.Request, id string, offset int64, status int) {
	c := http.NewResponseController(w)
	body := &patientBody{r: r, c: c}
	sum, err := checksum(r)
	if err != nil {
		refuse(w, http.StatusBadRequest, err.Error(), "Send Upload-Checksum: sha256 SUM, or none.")
		return
	}
	if u, err := s.Items.FindUpload(id); err == nil && u.Offset == offset && r.ContentLength > u.Size-u.Offset {
		s.failed(w, library.ErrTooLong)
		return
	}
	u, file, err := s.Items.Append(id, offset, r.ContentLength, body, sum)
	if err != nil {
		s.failed(w, err)
		return
	}
	_ = c.SetReadDeadline(time.Time{})
	h := w.Header()
	h.Set("Upload-Offset", strconv.FormatInt(u.Offset, 10))
	if file != "" {
		h.Set("Metaplasis-File", file)
		s.logger.Info("a file was uploaded", "file", file, "bytes", u.Size)
	} else {
		h.Set("Upload-Expires", u.Expires.Format(http.TimeFormat))
	}
	w.WriteHeader(status)
}

// patientBody reads a body whose sender may take long, but not rest.
type patientBody struct {
	r *http.Request
	c *http.ResponseController
}

func (p *patientBody) Read(b []byte) (int, error) {
	_ = p.c.SetReadDeadline(time.Now().Add(pieceWait))      // a transport without deadlines has bounds of its own
	_ = p.c.SetWriteDeadline(time.Now().Add(2 * pieceWait)) // for the answer
	return p.r.Body.Read(b)
}

func (s *Service) dropUpload(w http.ResponseWriter, r *http.Request) {
	if err := s.Items.DropUpload(chi.URLParam(r, "upload")); err != nil {
		s.failed(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
