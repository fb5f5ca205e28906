package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/bits"
	"metaplasis/internal/hooks"
	"metaplasis/internal/settings"
)

// network is how many strangers of one network there are at most: each attack comes from many networks.
const network = 20

// dialerFrom dials from an address of this machine that belongs to the n-th network, a /24 of 127.0.0.0/8.
func dialerFrom(n int) *net.Dialer {
	return &net.Dialer{Timeout: 3 * time.Second, LocalAddr: &net.TCPAddr{IP: net.IPv4(127, byte(10+n/250), byte(n%250), byte(1+n%200))}}
}

// clientFrom is a client in the n-th network.
func clientFrom(n int) *http.Client {
	return &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DialContext: dialerFrom(n).DialContext, DisableKeepAlives: true}}
}

// crowd lets n strangers do something, of as many networks, some at a time; it returns how they were answered.
func crowd(n int, do func(n int) (status int)) (answers map[int]int) {
	answers = map[int]int{}
	var mu sync.Mutex
	var all sync.WaitGroup
	slots := make(chan struct{}, 64)
	for i := range n {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			status := do(i)
			mu.Lock()
			answers[status]++
			mu.Unlock()
		})
	}
	all.Wait()
	return answers
}

func request(n int, method, address, body string, headers ...string) int {
	req, err := http.NewRequest(method, address, strings.NewReader(body))
	if err != nil {
		return 0
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := clientFrom(n).Do(req)
	if err != nil {
		return 0
	}
	defer func() { _ = res.Body.Close() }()
	_, _ = io.Copy(io.Discard, res.Body)
	return res.StatusCode
}

// processor is how much of a processor the service has used, without its workers.
func (r *rig) processor() time.Duration {
	_, rest, _ := strings.Cut(r.proc("stat"), ") ")
	f := strings.Fields(rest)
	if len(f) < 13 {
		return 0
	}
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

// descriptors is how many the service has open.
func (r *rig) descriptors() int {
	list, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", r.cmd.Process.Pid))
	return len(list)
}

// hugeSet is an HEVC parameter set whose order counts take two thousand million bits.
func hugeSet() []byte {
	var w bits.Writer
	w.U(16, 33<<9|1)
	w.U(8, 1)
	for range 12 {
		w.U(8, 0x40)
	}
	for _, v := range []uint32{0, 1, 64, 64} {
		w.UE(v)
	}
	w.U(1, 0)
	w.UE(0)
	w.UE(0)
	w.UE(1<<31 - 2)
	return append(w.Bytes(), make([]byte, 16)...)
}

// costlyDescriptions announces over RTSP, without a key, what once took minutes to read: sets of HEVC, a configuration of
// LATM, and clocks of one tick a second.
func costlyDescriptions(r *rig) (string, error) {
	session := "v=0\r\no=- 0 0 IN IP4 127.0.0.1\r\ns=-\r\nt=0 0\r\n"
	set := base64.StdEncoding.EncodeToString(hugeSet())
	bodies := []string{
		session + "m=video 0 RTP/AVP 96\r\na=rtpmap:96 H265/90000\r\na=fmtp:96 sprop-vps=" + set + ";sprop-sps=" + set + ";sprop-pps=" + set + "\r\n",
		session + "m=audio 0 RTP/AVP 96\r\na=rtpmap:96 MP4A-LATM/90000\r\na=fmtp:96 cpresent=0;config=" + strings.Repeat("ff", 14) + "\r\n",
		session + "m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/1\r\n",
	}
	before := r.processor()
	n := 600
	crowd(n, func(i int) int {
		c, err := dialerFrom(i).Dial("tcp", r.rtsp)
		if err != nil {
			return 0
		}
		defer func() { _ = c.Close() }()
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		body := bodies[i%len(bodies)]
		_, _ = fmt.Fprintf(c, "ANNOUNCE rtsp://%s/in/%s?key=wrong RTSP/1.0\r\nCSeq: 1\r\nContent-Type: application/sdp\r\nContent-Length: %d\r\n\r\n%s", r.rtsp, slug, len(body), body)
		_, _ = bufio.NewReader(c).ReadString('\n')
		return 0
	})
	took := r.processor() - before
	var err error
	if took > 20*time.Second {
		err = errors.New("descriptions cost too much")
	}
	return fmt.Sprintf("%d sessions described; they took %.1f s of a processor", n, took.Seconds()), err
}

// manySetups sets one track up 8,000 times on one connection, without a key.
func manySetups(r *rig) (string, error) {
	before, most := r.descriptors(), 0
	c, err := net.Dial("tcp", r.rtsp)
	if err != nil {
		return "", err
	}
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	in := bufio.NewReader(c)
	ask := func(n int, method, path, headers, body string) (answer string, err error) {
		if _, err = fmt.Fprintf(c, "%s rtsp://%s/%s RTSP/1.0\r\nCSeq: %d\r\n%sContent-Length: %d\r\n\r\n%s", method, r.rtsp, path, n, headers, len(body), body); err != nil {
			return "", err
		}
		length := 0
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				return answer, err
			}
			if answer == "" {
				answer = strings.TrimSpace(line)
			}
			if v, ok := strings.CutPrefix(strings.ToLower(line), "content-length:"); ok {
				length, _ = strconv.Atoi(strings.TrimSpace(v))
			}
			if strings.TrimSpace(line) == "" {
				_, err = io.CopyN(io.Discard, in, int64(length))
				return answer, err
			}
		}
	}
	if first, err := ask(1, "DESCRIBE", "out/"+slug, "", ""); err != nil || !strings.Contains(first, "200") {
		return "", fmt.Errorf("DESCRIBE is answered by %q: %v", first, err)
	}
	done := 0
	for ; done < 8000; done++ {
		port := 20_000 + done%10_000*2
		transport := fmt.Sprintf("Transport: RTP/AVP;unicast;client_port=%d-%d\r\n", port, port+1)
		if _, err := ask(2+done, "SETUP", "out/"+slug+"/track0", transport, ""); err != nil {
			break
		}
		if done%100 == 0 {
			most = max(most, r.descriptors())
		}
	}
	took, err := admitted(r, "beside-setups")
	if err == nil && most > before+64 {
		err = fmt.Errorf("%d descriptors more", most-before)
	}
	return fmt.Sprintf("%d SETUPs, %d descriptors more; a camera gets in after %d ms", done, max(0, most-before), took.Milliseconds()), err
}

// blockedRequests asks for parts that are not there yet, from two hundred networks; the player of the rig waits among them.
func blockedRequests(r *rig) (string, error) {
	newest := newestOf(r, "source")
	answers := crowd(4000, func(i int) int {
		return request(i%network*50+i/network, "GET", fmt.Sprintf("%s/media/%s/source/index.m3u8?_HLS_msn=%d", r.http, slug, newest+2), "")
	})
	return fmt.Sprintf("4,000 from many networks: %v", answers), nil
}

// headsOfDownloads asks for the heads of downloads, which once made the whole file.
func headsOfDownloads(r *rig) (string, error) {
	if err := r.keeps(); err != nil {
		return "", err
	}
	before := r.processor()
	answers := crowd(300, func(i int) int {
		return request(i, "HEAD", r.http+"/media/"+slug+"/source.mp4?from="+time.Now().Add(-20*time.Second).UTC().Format(time.RFC3339), "")
	})
	took := r.processor() - before
	var err error
	if took > 10*time.Second || answers[200]+answers[503] < 250 {
		err = errors.New("they cost too much, or are not answered")
	}
	return fmt.Sprintf("300 from as many networks in %.1f s of a processor: %v", took.Seconds(), answers), err
}

// offersNobodyCanTake offers to receive VP8 alone, which would have to be encoded for them.
func offersNobodyCanTake(r *rig) (string, error) {
	offer := "v=0\r\no=- 1 1 IN IP4 127.0.0.1\r\ns=-\r\nt=0 0\r\na=group:BUNDLE 0\r\nm=video 9 UDP/TLS/RTP/SAVPF 96\r\nc=IN IP4 0.0.0.0\r\na=rtpmap:96 VP8/90000\r\n" +
		"a=recvonly\r\na=mid:0\r\na=rtcp-mux\r\na=ice-ufrag:abcdefgh\r\na=ice-pwd:abcdefghabcdefghabcdefgh\r\na=setup:actpass\r\na=fingerprint:sha-256 " +
		strings.TrimSuffix(strings.Repeat("AB:", 32), ":") + "\r\n"
	workers := r.children()
	answers := crowd(100, func(i int) int {
		return request(i, "POST", r.http+"/whep/"+slug, offer, "Content-Type", "application/sdp")
	})
	var err error
	if now := r.children(); now > workers {
		err = fmt.Errorf("%d workers were started for them", now-workers)
	}
	return fmt.Sprintf("100 from as many networks: %v; no worker more", answers), err
}

// children is how many processes the service runs.
func (r *rig) children() int {
	return len(strings.Fields(r.proc(fmt.Sprintf("task/%d/children", r.cmd.Process.Pid))))
}

// guessesFromEverywhere guesses the administrator's password from four hundred networks, each signed in by another account
// between its guesses.
func guessesFromEverywhere(r *rig) (string, error) {
	ctx := context.Background()
	if _, err := r.api.AddUser(ctx, api.NewUser{Name: "watcher", Password: "a-long-password", Role: api.Watch}); err != nil {
		return "", err
	}
	defer func() { _ = r.api.RemoveUser(ctx, "watcher") }()
	guess := func(n int, user, password string) int {
		return request(n, "POST", r.http+"/api/v1/sign-in", fmt.Sprintf(`{"user":%q,"password":%q}`, user, password), "Content-Type", "application/json")
	}
	guess(0, "watcher", "a-long-password")
	wrong := 0
	for i := range 30 { // of one network, which a success must not clear
		if guess(0, "admin", fmt.Sprintf("guess %d", i)) == 401 {
			wrong++
		}
	}
	answers := crowd(400, func(i int) int { return guess(1+i, "admin", fmt.Sprintf("guess %d", i)) })
	var err error
	if wrong > 12 || answers[401] > 60 {
		err = fmt.Errorf("%d guesses of one network and %d of many were looked at", wrong, answers[401])
	}
	return fmt.Sprintf("430 guesses: %d and %d looked at, %d throttled, %d put off", wrong, answers[401], answers[429], answers[503]), err
}

// unknownTokens asks with tokens that nobody knows, each of which once cost the database a question.
func unknownTokens(r *rig) (string, error) {
	answers := crowd(3000, func(i int) int {
		return request(i%300, "GET", r.http+"/api/v1/channels", "", "Authorization", fmt.Sprintf("Bearer nobody-knows-%d", i))
	})
	var err error
	if answers[200] > 0 || answers[500] > 0 {
		err = fmt.Errorf("answered %v", answers)
	}
	if _, e := r.api.Channels(context.Background()); e != nil {
		err = fmt.Errorf("who is known is refused: %w", e)
	}
	return fmt.Sprintf("3,000 from 300 networks: %d refused, %d throttled", answers[401], answers[429]), err
}

// filesThatHarm puts files into the library that once ended the service at every start.
func filesThatHarm(r *rig) (string, error) {
	folder := filepath.Join(r.dir, "data", "library")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	wave := append([]byte("RIFF\x24\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\x10\x00data"), 0xff, 0xff, 0xff, 0x7f)
	box := func(kind string, body []byte) []byte {
		return append(append(binary.BigEndian.AppendUint32(nil, uint32(8+len(body))), kind...), body...)
	}
	nested := []byte{}
	for range 20_000 {
		nested = box("moov", nested)
	}
	table := box("stsz", binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(make([]byte, 4), 1), 1<<31-1))
	track := box("trak", box("mdia", append(box("mdhd", append(make([]byte, 12), 0, 0, 0, 1, 0x7f, 0xff, 0xff, 0xff, 0, 0, 0, 0)), box("minf", box("stbl", table))...)))
	files := map[string][]byte{
		"silence.wav": wave, "nested.mp4": append(box("ftyp", []byte("isom\x00\x00\x00\x00")), nested...),
		"many.mp4": append(box("ftyp", []byte("isom\x00\x00\x00\x00")), box("moov", bytes.Repeat(track, 6))...),
	}
	old := time.Now().Add(-time.Hour)
	for name, b := range files {
		path := filepath.Join(folder, "attack-"+name)
		if err := os.WriteFile(path, b, 0o600); err != nil {
			return "", err
		}
		_ = os.Chtimes(path, old, old)
		defer func() { _ = os.Remove(path) }()
	}
	told := 0
	err := r.await("all of them told", 40*time.Second, func() bool {
		told = 0
		list, err := r.api.Items(context.Background())
		if err != nil {
			return false
		}
		for _, e := range list {
			if strings.HasPrefix(e.Name, "attack-") && e.Trouble != "" {
				told++
			}
		}
		return told == len(files)
	})
	return fmt.Sprintf("%d files: %d told with what is wrong", len(files), told), err
}

// lookersIntoWhatIsKept asks for what is not public: recordings by guessed names, segments of a channel without a
// time-shift by their numbers, and what a channel that was removed has kept.
func lookersIntoWhatIsKept(r *rig) (string, error) {
	ctx := context.Background()
	newest := newestOf(r, "source")
	var served atomic.Int64
	answers := crowd(600, func(i int) int {
		at := time.Now().Add(-2 * time.Hour).UTC().Format(time.RFC3339) // longer ago than the time-shift
		paths := []string{
			fmt.Sprintf("%s/index.m3u8?recording=%d", slug, i), fmt.Sprintf("gone-%d/index.m3u8?from=%s", i, at),
			fmt.Sprintf("%s/source/%d.m4s", slug, int(newest)+900+i), fmt.Sprintf("%s/picture.jpg?time=%s", slug, at),
			fmt.Sprintf("%s/source/index.m3u8?recording=%d", slug, i), fmt.Sprintf("%s/source.mp4?recording=%d", slug, i),
		}
		status := request(i, "GET", r.http+"/media/"+paths[i%len(paths)], "")
		if status == 200 {
			served.Add(1)
		}
		return status
	})
	var err error
	if served.Load() > 0 {
		err = fmt.Errorf("%d were served", served.Load())
	}
	if _, e := r.api.Recordings(ctx, ""); e != nil {
		err = e
	}
	return fmt.Sprintf("600 from as many networks: %v", answers), err
}

// placesThatAreClosed has an operator name addresses of the link and of a cloud's metadata, in all forms.
func placesThatAreClosed(r *rig) (string, error) {
	ctx := context.Background()
	hosts := []string{"169.254.169.254", "[::ffff:169.254.169.254]", "[64:ff9b::a9fe:a9fe]", "[64:ff9b:1::a9fe:a9fe]", "[2002:a9fe:a9fe::1]", "[fe80::1]", "0.0.0.0", "100.100.100.200"}
	refused := 0
	for i, host := range hosts {
		h, err := r.api.AddHook(ctx, hooks.Hook{URL: "http://" + host + "/latest/meta-data", Events: []string{hooks.FeedBegun}})
		if err != nil {
			refused++
			continue
		}
		d, err := r.api.TryHook(ctx, h.ID)
		_ = r.api.RemoveHook(ctx, h.ID)
		if err == nil && !d.Done && strings.Contains(d.Status, "closed") {
			refused++
		}
		name := fmt.Sprintf("closed-%d", i)
		if _, err := r.api.PutRelay(ctx, slug, settings.Relay{Name: name, Address: "put+http://" + host + "/x", Off: true}); err == nil {
			t, err := r.api.TestRelay(ctx, slug, name)
			_ = r.api.RemoveRelay(ctx, slug, name)
			if err == nil && t.Takes {
				return "", fmt.Errorf("a relay to %s is taken", host)
			}
		}
	}
	var err error
	if refused != len(hosts) {
		err = fmt.Errorf("%d of %d were refused", refused, len(hosts))
	}
	return fmt.Sprintf("%d addresses for hooks and relays: all refused", len(hosts)), err
}

// secretsThatLeak gives secrets in every place that takes one, and looks for them in what watch may see and in the log.
func secretsThatLeak(r *rig) (string, error) {
	ctx := context.Background()
	const mark = "unspeakable"
	name := "beside-secrets"
	if _, err := r.channel(name); err != nil {
		return "", err
	}
	defer func() { _ = r.api.RemoveChannel(ctx, name) }()
	given := 0
	for i, address := range []string{"https://user:" + mark + "1@127.0.0.1:9/x?token=" + mark + "2", "srt://127.0.0.1:9?streamid=" + mark + "3&passphrase=" + mark + "45678",
		"rtmp://127.0.0.1:9/live/" + mark + "4", "put+http://127.0.0.1:9/x?signature=" + mark + "5="} {
		if _, err := r.api.PutRelay(ctx, name, settings.Relay{Name: fmt.Sprintf("relay-%d", i), Address: address}); err == nil {
			given++
		}
	}
	inputs := []settings.Input{{Kind: settings.InputAddress, Address: "https://127.0.0.1:9/live.m3u8?token=" + mark + "6"}, {Kind: settings.InputAddress, Address: "rtsp://user:" + mark + "7@127.0.0.1:9/x"}}
	if _, err := r.api.ChangeChannel(ctx, name, map[string]any{"inputs": inputs}); err == nil {
		given += len(inputs)
	}
	var token api.Token
	if err := post(r, "/tokens", api.NewToken{Label: "attack", Role: api.Watch}, &token); err != nil {
		return "", err
	}
	seen := 0
	stop := time.Now().Add(r.last(6*time.Second, 3*time.Second))
	for time.Now().Before(stop) {
		for _, path := range []string{"/channels", "/channels/" + name, "/channels/" + name + "/relays", "/events?limit=200", "/health", "/problems"} {
			req, _ := http.NewRequest("GET", r.http+"/api/v1"+path, nil)
			req.Header.Set("Authorization", "Bearer "+token.Secret)
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				return "", err
			}
			b, _ := io.ReadAll(res.Body)
			_ = res.Body.Close()
			if bytes.Contains(b, []byte(mark)) {
				return "", fmt.Errorf("%s tells a secret", path)
			}
			seen++
		}
		time.Sleep(200 * time.Millisecond)
	}
	if strings.Contains(r.said(), mark) {
		return "", errors.New("the log tells a secret")
	}
	var err error
	if given < 5 {
		err = fmt.Errorf("%d places took one", given)
	}
	return fmt.Sprintf("%d addresses with secrets; %d answers and the log tell none", given, seen), err
}

// post calls the control API.
func post(r *rig, path string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequest("POST", r.http+"/api/v1"+path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+r.api.Token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 300))
		return fmt.Errorf("POST %s: %s: %s", path, res.Status, text)
	}
	return json.NewDecoder(res.Body).Decode(out)
}
