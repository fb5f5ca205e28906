package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/camera"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
)

// dearLoop is a loop that is dear to decode: CABAC, pictures that refer to later ones, many bits for its size, of a
// texture that moves with noise over it.
func dearLoop(width, height int, bitrate int64) ([]byte, error) {
	const rate, frames = 30, 120
	enc, err := h264enc.New(h264enc.Settings{Width: width, Height: height, FrameRate: media.Rational{Num: rate, Den: 1}, Bitrate: bitrate, Peak: bitrate * 3 / 2, Buffer: 1000, Effort: 5, BFrames: 2})
	if err != nil {
		return nil, err
	}
	defer enc.Close()
	random := rand.New(rand.NewSource(9))
	texture := make([]byte, 4*width*height)
	for y := range 2 * height {
		for x := range 2 * width {
			texture[y*2*width+x] = byte(110 + 50*((x/17+y/13)%3-1) + (x*y/97)%23)
		}
	}
	out := flv.AppendTag(flv.AppendHeader(nil), &flv.Tag{Type: flv.TagScript, Body: amf.Append(nil, "onMetaData", amf.ECMAArray{{Name: "duration", Value: float64(frames) / rate}})})
	out = flv.AppendTag(out, &flv.Tag{Type: flv.TagVideo, Body: (&flv.Body{Codec: media.H264, Config: true, Key: true, Data: enc.Config.Marshal()}).Marshal()})
	delay := int64(-1)
	add := func(u *media.AccessUnit) {
		if u == nil {
			return
		}
		if delay < 0 {
			delay = -u.DTS // so that stamps begin at nothing
		}
		dts := u.DTS + delay
		out = flv.AppendTag(out, &flv.Tag{Type: flv.TagVideo, Timestamp: uint32(dts / 90), Body: (&flv.Body{Codec: media.H264, Key: u.Key, Composition: int32((u.PTS + delay - dts) / 90), Data: u.Data}).Marshal()})
	}
	pic := picture.New(width, height)
	for i := range pic.U {
		pic.U[i], pic.V[i] = 110, 140
	}
	for n := range frames {
		dx, dy := n*3%width, n*2%height
		for y := range height {
			line := pic.Y[y*pic.StrideY:][:width]
			copy(line, texture[(y+dy)*2*width+dx:])
			for range width / 16 {
				line[random.Intn(width)] += byte(random.Intn(24))
			}
		}
		u, err := enc.Encode(pic, int64(n)*media.VideoTimescale/rate, n%60 == 0)
		if err != nil {
			return nil, err
		}
		add(u)
	}
	for enc.Waiting() > 0 {
		u, err := enc.Encode(nil, 0, false)
		if err != nil {
			return nil, err
		}
		add(u)
	}
	return out, nil
}

// dear sends a loop that is dear to decode for a while, with the governor choosing, and tells how the ladder keeps up.
// Its arguments are how long, and the height: 1080 or 2160.
func dear(args []string) error {
	lasts, height := 10*time.Minute, 1080
	var err error
	if len(args) > 0 {
		if lasts, err = time.ParseDuration(args[0]); err != nil {
			return fmt.Errorf("found duration %q, expected one such as 10m", args[0])
		}
	}
	if len(args) > 1 {
		if height, err = strconv.Atoi(args[1]); err != nil || height != 1080 && height != 2160 {
			return fmt.Errorf("found height %q, expected 1080 or 2160", args[1])
		}
	}
	width, bitrate := height*16/9, int64(8_000_000)*int64(height/1080)
	rung := func(h int, bits int64) ladder.Rung {
		return ladder.Rung{Name: fmt.Sprintf("%dp", h), On: true, Height: h, Bitrate: bits, Effort: 2}
	}
	rungs := []ladder.Rung{source, rung(720, 2_700_000), rung(480, 1_300_000), rung(360, 750_000)}
	if height == 2160 {
		rungs = []ladder.Rung{source, rung(720, 2_700_000), rung(360, 750_000)}
	}
	fmt.Printf("making %dx%d at %d Mbit/s …\n", width, height, bitrate/1_000_000)
	file, err := dearLoop(width, height, bitrate)
	if err != nil {
		return err
	}
	clip, err := camera.Load(file)
	if err != nil {
		return err
	}
	r, err := newRig()
	if err != nil {
		return err
	}
	defer r.close()
	if _, err := r.o.Add(settings.Settings{Slug: "start-line", Ladder: ladder.Ladder{Rungs: rungs, Governor: ladder.GovernorLower}, Packaging: settings.Packaging{SegmentMillis: 2000}}, time.Now(), publish.Position{}); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() {
		_ = camera.Run(ctx, clip, camera.Options{URL: r.rtmp + "/in/start-line/key", Retry: time.Second})
	}()
	begin := time.Now()
	var most, early int64
	for time.Since(begin) < lasts {
		time.Sleep(10 * time.Second)
		st := r.o.Channel("start-line").Status()
		if st.Worker == nil {
			return errors.New("there is no worker")
		}
		w := st.Worker
		var steps []string
		for _, s := range st.Governor.Steps {
			steps = append(steps, s.String())
		}
		fmt.Printf("%5.0f s: load %3d %%, %3d %% of a core, lag %4d ms, left out %d of %d, replaced %d; %s\n", time.Since(begin).Seconds(), w.Load/10, w.CPU/10, w.LagMillis, w.Dropped, int64(time.Since(begin).Seconds()*30), w.Replaced, strings.Join(steps, "; "))
		if time.Since(begin) < time.Minute {
			early = w.Dropped
			continue
		}
		most = max(most, w.LagMillis)
	}
	st := r.o.Channel("start-line").Status()
	total := int64((lasts - time.Minute).Seconds() * 30)
	if total > 0 {
		row(fmt.Sprintf("%dp30 with %d encoded rungs, behind the first minute: left out", height, len(rungs)-1), fmt.Sprintf("%d of %d", st.Worker.Dropped-early, total), "-", fmt.Sprintf("%.3f", float64(st.Worker.Dropped-early)/float64(total)), "0 of 1080p")
		row("the longest that it was behind", fmt.Sprintf("%d ms", most), "-", "-", "no growth")
	}
	return nil
}
