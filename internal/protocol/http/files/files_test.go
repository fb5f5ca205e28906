package files

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	ftpserver "goftp.io/server/v2"
	ftpfiles "goftp.io/server/v2/driver/file"
	"golang.org/x/crypto/ssh"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/present"
)

// programme is a channel of two renditions whose window grows as it is told.
type programme struct {
	mu   sync.Mutex
	last uint64
}

const window = 4

func (p *programme) grow() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last++
}

func (p *programme) newest() uint64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.last
}

func body(rendition string, msn uint64) []byte {
	return []byte(strings.Repeat(fmt.Sprintf("%s %d;", rendition, msn), 200))
}

func (p *programme) Views(string) map[string]*present.View {
	last := p.newest()
	out := map[string]*present.View{}
	for _, name := range []string{"source", "audio"} {
		kind := media.Video
		if name == "audio" {
			kind = media.Audio
		}
		h := &segment.Header{Name: "header-" + name + ".mp4", Bytes: []byte("header of " + name), Track: media.Track{Kind: kind, Timescale: 90_000}}
		var held []*segment.Segment
		for msn := last - min(last, uint64(segment.Retained(window))) + 1; msn <= last; msn++ {
			b := body(name, msn)
			held = append(held, &segment.Segment{MSN: msn, Prefix: "a-", Start: int64(msn) * 2 * media.VideoTimescale, Duration: 2 * media.VideoTimescale, Header: h, Size: int64(len(b)), Blob: segment.Memory{b[:7], b[7:]}})
		}
		listed := held[max(len(held)-window, 0):]
		snap := segment.SnapshotOf(held)
		out[name] = present.NewView(hls.Media{Whole: listed, TargetDuration: 2, Epoch: time.Unix(0, 0)}, snap, func() []hls.Report { return nil })
	}
	return out
}

func (p *programme) Document(_, file string) []byte {
	if file == "index.m3u8" {
		return []byte("#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1,SUBTITLES=\"text\"\nsource/index.m3u8\n#EXT-X-I-FRAME-STREAM-INF:URI=\"source/keys.m3u8\"\n")
	}
	return []byte("<MPD>\n  <UTCTiming schemeIdUri=\"x\" value=\"/media/line/time\"></UTCTiming>\n</MPD>")
}

// gate is a line to a far end that can be cut off, and slow.
type gate struct {
	to     string
	l      net.Listener
	cut    atomic.Bool
	slow   atomic.Int64 // nanoseconds before each piece
	mu     sync.Mutex
	active map[net.Conn]bool
}

func newGate(t *testing.T, to string) *gate {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g := &gate{to: to, l: l, active: map[net.Conn]bool{}}
	t.Cleanup(func() { _ = l.Close(); g.set(true) })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if g.cut.Load() {
				_ = c.Close()
				continue
			}
			far, err := net.Dial("tcp", g.to)
			if err != nil {
				_ = c.Close()
				continue
			}
			g.mu.Lock()
			g.active[c], g.active[far] = true, true
			g.mu.Unlock()
			for _, pair := range [][2]net.Conn{{c, far}, {far, c}} {
				go func() {
					b := make([]byte, 16<<10)
					for {
						n, err := pair[0].Read(b)
						time.Sleep(time.Duration(g.slow.Load()))
						if n > 0 {
							if _, err := pair[1].Write(b[:n]); err != nil {
								break
							}
						}
						if err != nil {
							break
						}
					}
					_ = pair[0].Close()
					_ = pair[1].Close()
				}()
			}
		}
	}()
	return g
}

func (g *gate) set(cut bool) {
	g.cut.Store(cut)
	if !cut {
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for c := range g.active {
		_ = c.Close()
	}
	clear(g.active)
}

// far is a far end: its address through a gate, and how its files are read.
type far struct {
	address string
	gate    *gate
	read    func(name string) ([]byte, error)
}

func overPUT(t *testing.T) far {
	var mu sync.Mutex
	files := map[string][]byte{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer s3cret" {
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return
		}
		name := strings.TrimPrefix(r.URL.Path, "/live/")
		mu.Lock()
		defer mu.Unlock()
		switch r.Method {
		case http.MethodPut:
			b, err := io.ReadAll(r.Body)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
			if strings.HasSuffix(name, ".m3u8") && strings.Contains(name, "/") { // media before the list that names it
				list, err := hls.ReadMedia(b)
				assert.NoError(t, err)
				for _, e := range list.Entries {
					assert.Contains(t, files, path.Join(path.Dir(name), e.URI))
					assert.Contains(t, files, path.Join(path.Dir(name), e.Header))
				}
			}
			files[name] = b
			w.WriteHeader(http.StatusCreated)
		case http.MethodDelete:
			delete(files, name)
		}
	}))
	t.Cleanup(s.Close)
	g := newGate(t, s.Listener.Addr().String())
	return far{"put+http://" + g.l.Addr().String() + "/live?key=s3cret", g, func(name string) ([]byte, error) {
		mu.Lock()
		defer mu.Unlock()
		if b, ok := files[name]; ok {
			return b, nil
		}
		return nil, os.ErrNotExist
	}}
}

func overS3(t *testing.T) far {
	backend := s3mem.New()
	require.NoError(t, backend.CreateBucket("site"))
	s := httptest.NewServer(gofakes3.New(backend).Server())
	t.Cleanup(s.Close)
	g := newGate(t, s.Listener.Addr().String())
	return far{"s3://key:secret@" + g.l.Addr().String() + "/site/{channel}?tls=off", g, func(name string) ([]byte, error) {
		o, err := backend.GetObject("site", "line/"+name, nil)
		if err != nil {
			return nil, err
		}
		defer func() { _ = o.Contents.Close() }()
		return io.ReadAll(o.Contents)
	}}
}

type anyone struct{}

func (anyone) CheckPasswd(_ *ftpserver.Context, user, password string) (bool, error) {
	return user == "ana" && password == "s3cret", nil
}

func overFTPServer(t *testing.T) far {
	dir := t.TempDir()
	driver, err := ftpfiles.NewDriver(dir)
	require.NoError(t, err)
	s, err := ftpserver.NewServer(&ftpserver.Options{Driver: driver, Auth: anyone{}, Perm: ftpserver.NewSimplePerm("ana", "ana"), Hostname: "127.0.0.1", Logger: &ftpserver.DiscardLogger{}})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { _ = s.Shutdown() })
	g := newGate(t, l.Addr().String())
	return far{"ftp://ana:s3cret@" + g.l.Addr().String() + "/www/live", g, func(name string) ([]byte, error) {
		return os.ReadFile(filepath.Join(dir, "www", "live", name))
	}}
}

func overSFTPServer(t *testing.T) far {
	dir := t.TempDir()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	conf := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if c.User() == "ana" && string(password) == "s3cret" {
			return nil, nil
		}
		return nil, errors.New("no")
	}}
	conf.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				conn, channels, requests, err := ssh.NewServerConn(c, conf)
				if err != nil {
					return
				}
				defer func() { _ = conn.Close() }()
				go ssh.DiscardRequests(requests)
				for n := range channels {
					ch, rs, err := n.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range rs {
							_ = r.Reply(r.Type == "subsystem", nil)
						}
					}()
					s, err := sftp.NewServer(ch)
					if err == nil {
						_ = s.Serve()
					}
				}
			}()
		}
	}()
	g := newGate(t, l.Addr().String())
	return far{"sftp://ana:s3cret@" + g.l.Addr().String() + dir + "?hostkey=" + url.QueryEscape(ssh.FingerprintSHA256(signer.PublicKey())), g, func(name string) ([]byte, error) {
		return os.ReadFile(filepath.Join(dir, name))
	}}
}

func toFolder(t *testing.T, w *Writer) far {
	w.Folder = t.TempDir()
	return far{"folder://site/{channel}", nil, func(name string) ([]byte, error) {
		return os.ReadFile(filepath.Join(w.Folder, "site", "line", name))
	}}
}

// keepUp runs Copy again and again, as a relay does.
func keepUp(ctx context.Context, w *Writer, p *relay.Plan, errs *atomic.Int64) {
	for ctx.Err() == nil {
		if err := w.Copy(ctx, p, func() {}, func(int, int64) {}, func(string) {}); err != nil && ctx.Err() == nil {
			errs.Add(1)
			select {
			case <-ctx.Done():
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
}

func TestFilesArriveWhole(t *testing.T) {
	for name, to := range map[string]func(*testing.T, *Writer) far{
		"folder": toFolder, "HTTP": func(t *testing.T, _ *Writer) far { return overPUT(t) }, "S3": func(t *testing.T, _ *Writer) far { return overS3(t) },
		"FTP": func(t *testing.T, _ *Writer) far { return overFTPServer(t) }, "SFTP": func(t *testing.T, _ *Writer) far { return overSFTPServer(t) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := &programme{}
			w := &Writer{Channels: p}
			f := to(t, w)
			ctx, cancel := context.WithCancel(context.Background())
			done := make(chan struct{})
			var errs atomic.Int64
			go func() {
				defer close(done)
				keepUp(ctx, w, &relay.Plan{Channel: "line", Name: "site", Address: f.address, Full: f.address}, &errs)
			}()
			defer func() { cancel(); <-done }()
			// arrives waits until the far end lists a segment, and checks all that it lists.
			arrives := func(msn uint64) {
				t.Helper()
				var list *hls.Playlist
				require.Eventually(t, func() bool {
					for _, rendition := range []string{"source", "audio"} {
						b, err := f.read(rendition + "/index.m3u8")
						if err != nil {
							return false
						}
						if list, err = hls.ReadMedia(b); err != nil || len(list.Entries) == 0 || list.Entries[len(list.Entries)-1].URI != fmt.Sprintf("a-%d.m4s", msn) {
							return false
						}
					}
					return true
				}, 20*time.Second, 5*time.Millisecond, "segment %d; %d errors", msn, errs.Load())
				for i, e := range list.Entries {
					n := msn - uint64(len(list.Entries)-1-i)
					b, err := f.read("audio/" + e.URI)
					require.NoError(t, err)
					assert.Equal(t, string(body("audio", n)), string(b))
				}
				b, err := f.read("audio/" + list.Entries[0].Header)
				require.NoError(t, err)
				assert.Equal(t, "header of audio", string(b))
			}
			p.grow()
			p.grow()
			arrives(2)
			require.Eventually(t, func() bool {
				_, a := f.read("index.m3u8")
				_, b := f.read("index.mpd")
				return a == nil && b == nil
			}, 10*time.Second, 5*time.Millisecond, "the lists of all come last")
			b, err := f.read("index.m3u8")
			require.NoError(t, err)
			assert.False(t, bytes.Contains(b, []byte("keys.m3u8")) || bytes.Contains(b, []byte("SUBTITLES")), "only what is written is named")
			b, err = f.read("index.mpd")
			require.NoError(t, err)
			assert.NotContains(t, string(b), "UTCTiming")
			if f.gate == nil {
				return
			}
			f.gate.slow.Store(int64(2 * time.Millisecond))
			p.grow()
			arrives(3)
			f.gate.set(true)
			before := errs.Load()
			for range 6 {
				p.grow()
			}
			require.Eventually(t, func() bool { return errs.Load() > before }, 10*time.Second, time.Millisecond, "the line is cut")
			f.gate.set(false)
			arrives(9)
			for n := uint64(1); n <= 9; n++ { // no hole, since the window lasted
				_, err := f.read(fmt.Sprintf("source/a-%d.m4s", n))
				assert.NoError(t, err, "segment %d", n)
			}
		})
	}
}

// TestTheNextDayHasItsOwnFolder: an address with the date in it names another folder from midnight on, and that of the day before
// stays as it ended.
func TestTheNextDayHasItsOwnFolder(t *testing.T) {
	p := &programme{}
	var after atomic.Int64
	evening := time.Date(2027, 6, 12, 23, 59, 50, 0, time.UTC)
	w := &Writer{Channels: p, Folder: t.TempDir(), Now: func() time.Time { return evening.Add(time.Duration(after.Load())) }}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		const at = "folder://{channel}/{date}"
		done <- w.Copy(ctx, &relay.Plan{Channel: "line", Name: "days", Address: at, Full: at}, func() {}, func(int, int64) {}, func(string) {})
	}()
	defer func() { cancel(); assert.ErrorIs(t, <-done, context.Canceled) }()
	lists := func(day string, msn uint64) {
		t.Helper()
		require.Eventually(t, func() bool {
			b, err := os.ReadFile(filepath.Join(w.Folder, "line", day, "source", "index.m3u8"))
			return err == nil && bytes.Contains(b, fmt.Appendf(nil, "a-%d.m4s", msn))
		}, 20*time.Second, 5*time.Millisecond, "segment %d on %s", msn, day)
	}
	p.grow()
	lists("2027-06-12", 1)
	after.Store(int64(time.Minute))
	lists("2027-06-13", 1)
	p.grow()
	lists("2027-06-13", 2)
	b, err := os.ReadFile(filepath.Join(w.Folder, "line", "2027-06-12", "source", "index.m3u8"))
	require.NoError(t, err)
	assert.NotContains(t, string(b), "a-2.m4s")
}

func TestWrongAddressesSayWhatIsWrong(t *testing.T) {
	w := &Writer{Channels: &programme{}}
	s3 := overS3(t)
	ssh := overSFTPServer(t)
	for address, says := range map[string]string{
		"folder://site": "has no folder",
		"s3://key:secret@" + s3.gate.l.Addr().String() + "/other?tls=off": "no bucket other",
		"s3://key:secret@192.0.2.1":                                       "found no bucket",
		strings.Split(ssh.address, "?")[0]:                                "found the host key SHA256:",
		strings.Replace(ssh.address, "s3cret", "x", 1):                    "unable to authenticate",
		"gopher://192.0.2.1":                                              "nothing here writes files",
	} {
		err := w.Copy(context.Background(), &relay.Plan{Full: address}, func() {}, func(int, int64) {}, func(string) {})
		assert.ErrorContains(t, err, says, address)
	}
	w.Folder = t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(w.Folder, "site"), 0o755))
	require.NoError(t, os.Symlink("/etc", filepath.Join(w.Folder, "site", "out")))
	to, err := openFolder(w.Folder, "site")
	require.NoError(t, err)
	assert.Error(t, to.put(context.Background(), "out/x", "", [][]byte{[]byte("x")}), "nothing leads out of the folder")
	to, err = openFolder(w.Folder, "../../up")
	require.NoError(t, err)
	require.NoError(t, to.put(context.Background(), "x", "", [][]byte{[]byte("x")}))
	_, err = os.Stat(filepath.Join(w.Folder, "up", "x"))
	assert.NoError(t, err)
}

func TestMediaThatNoListNamesIsRemoved(t *testing.T) {
	p := &programme{last: 30}
	w := &Writer{Channels: p, Folder: t.TempDir()}
	to, err := openFolder(w.Folder, "site")
	require.NoError(t, err)
	x := w.newRun(&relay.Plan{Channel: "line"}, "folder:site", to, func(int, int64) {})
	round := func() {
		t.Helper()
		_, _, err := x.round(context.Background())
		require.NoError(t, err)
	}
	round()
	first := "source/a-22.m4s"
	require.Contains(t, x.c.files, first)
	p.last = 50
	round()
	require.False(t, x.c.files[first].IsZero(), "no list names it any more")
	_, err = os.Stat(filepath.Join(w.Folder, "site", first))
	require.NoError(t, err, "players may hold a list that does")
	x.c.files[first] = time.Now().Add(-keepGone - time.Second)
	round()
	_, err = os.Stat(filepath.Join(w.Folder, "site", first))
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.NotContains(t, x.c.files, first)
}

// moody is a far end that answers 503 now and then, takes no DELETE, and needs a round trip for each file.
type moody struct {
	mu      sync.Mutex
	files   map[string][]byte
	puts    int
	now     int // on their way
	most    int
	removes int
	missing []string // that a manifest named before it came
	trip    time.Duration
}

func (m *moody) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	m.mu.Lock()
	m.now++
	m.most = max(m.most, m.now)
	m.mu.Unlock()
	time.Sleep(m.trip)
	b, _ := io.ReadAll(r.Body)
	m.mu.Lock()
	defer m.mu.Unlock()
	m.now--
	if r.Method == http.MethodDelete {
		m.removes++
		http.Error(w, "no", http.StatusMethodNotAllowed)
		return
	}
	if m.puts++; m.puts%7 == 3 {
		http.Error(w, "a moment", http.StatusServiceUnavailable)
		return
	}
	name := strings.TrimPrefix(r.URL.Path, "/live/")
	if name == "index.mpd" {
		for n := range strings.FieldsSeq(string(b)) {
			if file, ok := strings.CutPrefix(n, "file:"); ok && m.files[file] == nil {
				m.missing = append(m.missing, file)
			}
		}
	}
	m.files[name] = b
}

// naming is a programme whose manifest names the newest segment.
type naming struct{ *programme }

func (n naming) Document(channel, file string) []byte {
	if file == "index.mpd" {
		return fmt.Appendf(nil, "<MPD> file:source/a-%d.m4s file:audio/a-%d.m4s </MPD>", n.newest(), n.newest())
	}
	return n.programme.Document(channel, file)
}

// A single refusal costs its file a moment and nothing else; a far end that lets nothing be removed is told of and goes on; files are on
// their way side by side; and a manifest comes behind all that it names, while the window moves.
func TestAMoodyFarEnd(t *testing.T) {
	far := &moody{files: map[string][]byte{}, trip: 3 * time.Millisecond}
	s := httptest.NewServer(far)
	defer s.Close()
	p := naming{&programme{last: 3}}
	w := &Writer{Channels: p}
	var texts sync.Map
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		at := "put+" + s.URL + "/live"
		done <- w.Copy(ctx, &relay.Plan{Channel: "line", Name: "site", Address: at, Full: at}, func() {}, func(int, int64) {}, func(text string) { texts.Store(text, true) })
	}()
	has := func(msn uint64) func() bool {
		return func() bool {
			far.mu.Lock()
			defer far.mu.Unlock()
			return far.files[fmt.Sprintf("source/a-%d.m4s", msn)] != nil && far.files[fmt.Sprintf("audio/a-%d.m4s", msn)] != nil && bytes.Contains(far.files["index.mpd"], fmt.Appendf(nil, "a-%d.m4s", msn))
		}
	}
	for msn := uint64(3); msn < 20; msn++ {
		require.Eventually(t, has(msn), 20*time.Second, time.Millisecond, "segment %d", msn)
		p.grow()
	}
	w.mu.Lock()
	c := w.copies[relay.Plan{Channel: "line", Name: "site", Address: "put+" + s.URL + "/live", Full: "put+" + s.URL + "/live"}]
	w.mu.Unlock()
	c.mu.Lock()
	for name, gone := range c.files {
		if !gone.IsZero() {
			c.files[name] = time.Now().Add(-keepGone - time.Second)
		}
	}
	c.mu.Unlock()
	require.Eventually(t, func() bool {
		told := false
		texts.Range(func(text, _ any) bool {
			told = told || strings.Contains(text.(string), "lets nothing be removed")
			return true
		})
		return told
	}, 20*time.Second, 5*time.Millisecond)
	require.Eventually(t, has(20), 20*time.Second, time.Millisecond, "it goes on")
	cancel()
	require.ErrorIs(t, <-done, context.Canceled)
	assert.Empty(t, far.missing)
	assert.Greater(t, far.most, 1)
	assert.Equal(t, 1, far.removes, "it is not asked again")
}

// Paths of FTP lie below the folder that signing in leads to, unless they begin with an encoded slash.
func TestFoldersOfFTP(t *testing.T) {
	for address, want := range map[string]string{"ftp://h/www/live": "www/live", "ftp://h": "", "ftp://h/": "", "ftp://h/%2Fsrv/live/": "/srv/live", "ftp://h/../up": "up"} {
		u, err := url.Parse(address)
		require.NoError(t, err)
		assert.Equal(t, want, ftpBase(u.Path), address)
	}
}
