package worker

import (
	"cmp"
	"context"
	"fmt"
	"os/exec"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
)

const (
	// edgeEffort is that of edges: they are short.
	edgeEffort = 5
	rounding   = media.VideoTimescale / 1000
)

// edgeSink takes the pictures of an edge.
type edgeSink struct {
	track *media.Track
	units []media.AccessUnit
	from  int64
	to    int64
}

func (e *edgeSink) Track(_ media.TrackID, t media.Track) { e.track = &t }

func (e *edgeSink) Unit(_ media.TrackID, u media.AccessUnit) {
	if u.PTS >= e.from && u.PTS < e.to {
		e.units = append(e.units, u)
	}
}

// Edge encodes the pictures of some units that are presented from a time on up to another, ticks of media.VideoTimescale, as they were
// encoded: codec, size and about the bitrate. Units begin with a keyframe.
func Edge(ctx context.Context, command func() *exec.Cmd, t *media.Track, units []media.AccessUnit, from, to int64) (media.Track, []media.AccessUnit, error) {
	codec := coding.Find(t.Codec)
	if codec == nil || !codec.Decoded || !codec.Encoded || t.Undecodable != "" {
		return media.Track{}, nil, fmt.Errorf("%s cannot be encoded here", cmp.Or(t.Label, string(t.Codec)))
	}
	source := *t
	source.ID, source.Timescale = 2, media.VideoTimescale
	var bytes, ticks int64
	for i := range units {
		bytes, ticks = bytes+int64(len(units[i].Data)), ticks+media.Rescale(units[i].Duration, t.Timescale, media.VideoTimescale)
	}
	if !source.FrameRate.Valid() && ticks > 0 {
		source.FrameRate = media.Rational{Num: int64(len(units)) * media.VideoTimescale, Den: ticks}.Reduce()
	}
	const least = 300_000
	w, h := t.Width, t.Height
	rate := max(media.PerSecond(bytes*8, max(ticks, 1), media.VideoTimescale)*3/2, ladder.Bitrate(w, h, source.FrameRate), least)
	conf := transcode.Config{Video: &source, Rungs: []transcode.Rung{{ID: 1, Name: "edge", Codec: t.Codec, Width: w, Height: h, SAR: t.SAR, Bitrate: rate, Peak: rate * 2, Buffer: 2000, Effort: edgeEffort, BFrames: -1, Colour: t.Colour}}}
	out := &edgeSink{from: from - rounding, to: to}
	err := Recode(ctx, command, conf, func(f Feeding) error {
		if err := f.Boundary(segment.Boundary{Start: from - rounding}); err != nil {
			return err
		}
		for i := range units {
			u := units[i]
			u.DTS, u.PTS, u.Duration = media.Rescale(u.DTS, t.Timescale, media.VideoTimescale), media.Rescale(u.PTS, t.Timescale, media.VideoTimescale), 0
			if i == 0 {
				u.Data = coding.WithConfig(&source, u.Data)
			}
			if err := f.Unit(source.ID, &u); err != nil {
				return err
			}
		}
		return nil
	}, out)
	if err != nil {
		return media.Track{}, nil, err
	}
	if len(out.units) > 0 && out.track == nil {
		return media.Track{}, nil, fmt.Errorf("the encoder of %s told nothing", codec.Label)
	}
	if out.track == nil {
		return *t, nil, nil
	}
	return *out.track, out.units, nil
}
