// Package demo holds the loops of the Kestrel Bay Regatta, a made-up sailing event. They are
// drawn and encoded by demo/generate; run `go generate ./demo` to make them again.
package demo

import _ "embed"

//go:generate go run ./generate

// Loop is a short recording that begins and ends on the same beat, so that it can be sent forever.
type Loop struct {
	Name   string // also the slug of the demo channel
	Title  string
	Frames int // pictures, numbered from 0 in every picture's block code
	FLV    []byte
}

//go:embed start-line.flv
var startLine []byte

//go:embed chase-boat.flv
var chaseBoat []byte

//go:embed harbour.flv
var harbour []byte

//go:embed marks.flv
var marks []byte

//go:embed committee.flv
var committee []byte

// Others are recordings in other codecs, and with several audio tracks: VP9 and AV1 with Opus, and
// H.264 with AAC in two languages and Opus in a third.
var Others = []Loop{
	{Name: "harbour", Title: "Harbour", Frames: 240, FLV: harbour},
	{Name: "marks", Title: "Marks", Frames: 240, FLV: marks},
	{Name: "committee", Title: "Committee boat", Frames: 240, FLV: committee},
}

// Loops are the demo's cameras.
var Loops = []Loop{
	{Name: "start-line", Title: "Start line", Frames: 240, FLV: startLine},
	{Name: "chase-boat", Title: "Chase boat", Frames: 240, FLV: chaseBoat},
}
