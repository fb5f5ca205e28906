package delivery

import (
	"metaplasis/internal/lru"
	"metaplasis/internal/present"
)

// maxDocumentBytes bounds the documents of stored media.
//
//limit:bytes of playlists, manifests and tiles of what is kept | all | those used longest ago are made again
const maxDocumentBytes = 48 << 20

// documents are the playlists, manifests and tiles of stored media. A key says what a document is of and what that held, so
// that the same content is made once, and a document never has to be taken back.
type documents = lru.Cache[documentKey, *present.Doc]

type documentKey struct {
	family    family
	path      string // below the family's mount point
	selection string // what the query selects
	content   string // what there was of it
}

// document returns what the request asks for, made in its turn when it is new; nil when there is nothing. selection is what the query
// selects, content names what the document is made of.
func (q *request) document(selection, content string, make func() []byte) (*present.Doc, error) {
	key := documentKey{q.family, q.r.URL.Path, selection, content}
	if d, ok := q.s.documents.Get(key); ok {
		return d, nil
	}
	done, err := q.s.turns.take(q.r.Context(), q.r.RemoteAddr)
	if err != nil {
		return nil, err
	}
	defer done()
	b := make()
	if b == nil {
		return nil, nil
	}
	d := present.NewDoc(func() []byte { return b })
	// Twice: it is held compressed as well.
	q.s.documents.Put(key, d, int64(2*len(b)+len(key.path)+len(key.selection)+len(key.content)))
	return d, nil
}
