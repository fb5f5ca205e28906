package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/client"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// wayFeeds is how many feeds of a protocol come at once, highFeeds of those at a rate for contribution, which have
// highBitrate each, and waySpan for how long they are watched.
const (
	wayFeeds    = 12
	highFeeds   = 4
	highBitrate = 50_000_000
	waySpan     = 8 * time.Second
)

// high is the loop at a rate for contribution: the demo's, with bytes that no decoder needs in each picture.
const high = "high"

// ofBitrate is the same at about so many bits per second.
func ofBitrate(bits int) ([]byte, error) {
	r, err := flv.NewReader(bytes.NewReader(demo.Loops[0].FLV))
	if err != nil {
		return nil, err
	}
	filler := make([]byte, bits/8/30)
	random := rand.New(rand.NewPCG(1, 2))
	for i := range filler {
		filler[i] = byte(random.Uint32())
		if i > 0 && filler[i-1] == 0 {
			filler[i] |= 0x80 // no start code
		}
	}
	// Supplemental information of a user's own (ITU-T H.264, 7.3.2.3.1, D.1.7): kind, size, bytes.
	head := []byte{6, 5}
	for n := len(filler); n >= 0; n -= 255 {
		head = append(head, byte(min(n, 255)))
	}
	filler = append(append(head, filler...), 0x80)
	out := flv.AppendHeader(nil)
	for {
		tag, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if tag.Type == flv.TagVideo && len(tag.Body) > 1 && tag.Body[1] == 1 {
			tag.Body = append(binary.BigEndian.AppendUint32(bytes.Clone(tag.Body), uint32(len(filler))), filler...)
		}
		out = flv.AppendTag(out, tag)
	}
}

// sendTo is the child process that sends loops to addresses, so that its processor time is not the service's.
func sendTo(args []string) {
	loop := &demo.Loops[1]
	if args[0] == "opus" {
		loop = &demo.Others[0]
	}
	file := loop.FLV
	if bits := map[string]int{high: highBitrate, relayed: relayedBitrate - 1_600_000}[args[0]]; bits > 0 {
		var err error
		if file, err = ofBitrate(bits); err != nil {
			panic(err)
		}
	}
	clip, err := camera.Load(file)
	if err != nil {
		panic(err)
	}
	for _, to := range args[1:] {
		go func() { _ = camera.Run(context.Background(), clip, camera.Options{URL: to, Retry: time.Second}) }()
	}
	select {}
}

// wholeService is a service of its own, whose processor time is watched.
type wholeService struct {
	cmd              *exec.Cmd
	dir              string
	api              *client.Client
	http, rtmp, rtsp string
	srt              string
}

func serveWhole() (*wholeService, error) {
	dir, err := os.MkdirTemp("", "metaplasis-bench-")
	if err != nil {
		return nil, err
	}
	s := &wholeService{dir: dir}
	s.cmd = exec.Command("bin/metaplasis", "serve", "--outbound", "127.0.0.0/8,::1", "--data", filepath.Join(dir, "data"), "--http", "127.0.0.1:0", "--rtmp", "127.0.0.1:0", "--srt", "127.0.0.1:0",
		"--rtsp", "127.0.0.1:0", "--webrtc", "127.0.0.1:0", "--log", "error")
	s.cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+dir)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) > 1 {
			switch f[0] {
			case "Console":
				s.http = strings.TrimSuffix(f[1], "/")
			case "RTMP":
				s.rtmp = strings.TrimSuffix(f[1], "/in/CHANNEL")
			case "SRT":
				s.srt = f[1]
			case "RTSP":
				s.rtsp, _, _ = strings.Cut(f[1], "/in/")
			}
		}
		if strings.Contains(lines.Text(), "Commands on this machine") {
			break
		}
	}
	go func() {
		for lines.Scan() {
		}
	}()
	token, err := os.ReadFile(filepath.Join(dir, "data", "operator-token"))
	s.api = &client.Client{Server: s.http, Token: strings.TrimSpace(string(token))}
	return s, err
}

func (s *wholeService) close() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	_ = s.cmd.Wait()
	_ = os.RemoveAll(s.dir)
}

// used is the processor time of the service and of its own child processes, without the database.
func (s *wholeService) used() (total time.Duration) {
	list, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range list {
		b, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		_, rest, ok := strings.Cut(string(b), ") ")
		f := strings.Fields(rest)
		if !ok || len(f) < 15 {
			continue
		}
		pid, parent := filepath.Base(filepath.Dir(name)), f[1]
		own := strconv.Itoa(s.cmd.Process.Pid)
		if pid != own && (parent != own || strings.Contains(string(b), "mariadb")) {
			continue
		}
		for _, v := range f[11:13] {
			n, _ := strconv.ParseInt(v, 10, 64)
			total += time.Duration(n) * 10 * time.Millisecond
		}
	}
	return total
}

// waysIn measures what a feed that passes through costs, protocol by protocol, from the socket to parts in four formats.
func waysIn() error {
	s, err := serveWhole()
	if err != nil {
		return err
	}
	defer s.close()
	for _, w := range []struct {
		name, loop, goal string
		to               func(slug, key string) (input, to string)
	}{
		{"RTMP", "", "", func(slug, key string) (string, string) { return "", s.rtmp + "/in/" + slug + "/" + key }},
		{"TS over UDP", "", "", overUDP},
		{"TS over UDP", high, "1 Gbit/s a core", overUDP},
		{"SRT", high, "", func(slug, key string) (string, string) { return "", s.srt + "?streamid=" + slug + "/" + key }},
		{"RTMP", high, "", func(slug, key string) (string, string) { return "", s.rtmp + "/in/" + slug + "/" + key }},
		{"SRT", "", "", func(slug, key string) (string, string) { return "", s.srt + "?streamid=" + slug + "/" + key }},
		{"RTSP", "", "", func(slug, key string) (string, string) { return "", s.rtsp + "/in/" + slug + "?key=" + key }},
		{"CMAF over HTTP", "", "", func(slug, key string) (string, string) { return "", s.http + "/in/" + slug + "?key=" + key }},
		{"WebRTC", "opus", "", func(slug, key string) (string, string) { return "", s.http + "/whip/" + slug + "?key=" + key }},
	} {
		if err := s.measureWay(w.name, w.loop, w.goal, w.to); err != nil {
			return err
		}
	}
	return nil
}

func overUDP(string, string) (input, to string) {
	c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return "", ""
	}
	defer func() { _ = c.Close() }()
	at := "udp://" + c.LocalAddr().String()
	return at, at
}

func (s *wholeService) measureWay(name, loop, goal string, address func(slug, key string) (input, to string)) error {
	ctx := context.Background()
	args := []string{"send-to", loop}
	var slugs []string
	feeds := wayFeeds
	if loop == high {
		feeds = highFeeds
	}
	for n := range feeds {
		slug := fmt.Sprintf("feed-%d", n)
		slugs = append(slugs, slug)
		input, _ := address(slug, "")
		set := settings.Settings{Slug: slug, Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}}
		if input != "" {
			set.Inputs = []settings.Input{settings.ParseInput(input)}
		}
		if _, err := s.api.CreateChannel(ctx, set); err != nil {
			return err
		}
		k, err := s.api.CreateKey(ctx, slug, api.NewKey{})
		if err != nil {
			return err
		}
		to := input
		if input == "" {
			_, to = address(slug, k.Secret)
		}
		args = append(args, to)
	}
	defer func() {
		for _, slug := range slugs {
			_ = s.api.RemoveChannel(ctx, slug)
		}
	}()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	child := exec.Command(self, args...)
	child.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := child.Start(); err != nil {
		return err
	}
	defer func() { _ = child.Process.Kill(); _ = child.Wait() }()
	time.Sleep(6 * time.Second) // all are on air, and their rates known
	before, begun := s.used(), time.Now()
	time.Sleep(waySpan)
	share := float64(s.used()-before) / float64(time.Since(begun))
	var bits int64
	live := 0
	for _, slug := range slugs {
		if c, err := s.api.Channel(ctx, slug); err == nil && c.Status.Feed != nil {
			bits += c.Status.Feed.Bitrate
			live++
		}
	}
	if live < feeds {
		return fmt.Errorf("%s: %d of %d feeds are on air", name, live, feeds)
	}
	row(fmt.Sprintf("%d feeds that pass through over %s, of a core", feeds, name), fmt.Sprintf("%.1f %%", 100*share),
		fmt.Sprintf("%.0f Mbit/s in", float64(bits)/1e6), fmt.Sprintf("%.0f feeds", float64(feeds)/share), fmt.Sprintf("%s (%.0f Mbit/s a core)", goal, float64(bits)/1e6/share))
	return nil
}
