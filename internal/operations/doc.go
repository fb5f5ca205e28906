// Package operations holds what people and programs do with the service: create and change channels, give out keys, record, relay,
// sign in, look at what happened. It knows no HTTP. The API's bodies (package api) go in and come out; a refusal is an *Error, which
// says what was found, what was expected and what to do.
//
// There is a small type for each subject, complete once it is constructed. Desk comes first, since the origin needs it: it keeps
// records beside the media, writes the event log, and admits senders. All methods may be called from any goroutine; those that take
// a context may wait for the database.
package operations
