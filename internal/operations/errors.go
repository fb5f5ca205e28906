package operations

import (
	"fmt"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
)

// Kind is why something is refused.
type Kind int

// The kinds of refusal.
const (
	Malformed    Kind = iota // what was sent cannot be understood
	Invalid                  // it is understood, and not allowed; see the problems
	NotFound                 // there is no such thing
	Conflict                 // it does not fit what is there
	SignedOut                // nobody is signed in, or not any more
	Forbidden                // somebody else may do it
	TooMany                  // it came too often
	TooLarge                 // it is larger than it may be
	Unavailable              // it cannot be done now
	Locked                   // somebody else is at it
	NoRoom                   // the disk has no room for it
	Mismatch                 // the bytes are not what their checksum says
	Precondition             // the caller speaks another version
	WrongType                // the content is of another type
)

// Error is a refusal.
type Error struct {
	Kind Kind
	Body api.Error
}

func (e *Error) Error() string { return e.Body.Text }

// Refuse makes a refusal: what was found and expected, and what to do.
func Refuse(kind Kind, text, do string) error { return &Error{kind, api.Error{Text: text, Do: do}} }

// refuse is Refuse with a format.
func refuse(kind Kind, do, text string, args ...any) error {
	return Refuse(kind, fmt.Sprintf(text, args...), do)
}

// refuseAll makes a refusal of several things at once.
func refuseAll(text string, problems []ladder.Problem) error {
	return &Error{Invalid, api.Error{Text: text, Problems: problems, Do: "Correct what is listed, and ask again."}}
}

//limit:characters of a name for people | each record | 422
const maxLabel = 120

// checkLabel says what is wrong with a label, nil when nothing is.
func checkLabel(label string) error {
	if p := ladder.CheckText("label", label, maxLabel); p != nil {
		return &Error{Invalid, api.Error{Text: "nothing was made", Problems: []ladder.Problem{*p}, Do: "Choose another label."}}
	}
	return nil
}
