package library

import (
	"crypto/sha256"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

func newHeader(t media.Track) *segment.Header {
	return &segment.Header{Name: "header.mp4", Bytes: bmff.Header(&t), Track: t}
}

// open watches a folder with some files, until they are looked into.
func open(t *testing.T, files map[string][]byte, items int) (*Library, map[string]Entry) {
	dir := t.TempDir()
	for name, b := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, b, 0o644))
		old := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(path, old, old))
	}
	l := New(dir, newHeader, nil, slog.New(slog.NewTextHandler(io.Discard, nil)))
	t.Cleanup(l.Close)
	out := map[string]Entry{}
	require.Eventually(t, func() bool {
		clear(out)
		for _, e := range l.List() {
			if e.Looking == 0 {
				out[e.Name] = e
			}
		}
		return len(out) == items
	}, 20*time.Second, 10*time.Millisecond)
	return l, out
}

func TestFilesThatBelongTogetherAreOneItem(t *testing.T) {
	loop := demo.Loops[0].FLV
	_, got := open(t, map[string][]byte{
		"race.flv": loop, "race.720p.flv": loop, "race.en.vtt": []byte("WEBVTT\n\n00:01.000 --> 00:02.000\nOff\n"), "race.vtt": []byte("WEBVTT\n\n00:01.000 --> 00:02.000\nOff\n"),
		"race.final.flv": loop, "alone.720p.flv": loop, "a/race.flv": loop, "de.en.vtt": []byte("x"), ".hidden.flv": loop, "letter.txt": []byte("x"), "race_.flv": loop,
	}, 5)
	assert.Equal(t, []string{"race.720p.flv", "race.en.vtt", "race.vtt"}, got["race"].Beside)
	for _, name := range []string{"race-final", "alone-720p", "a-race", "race-2"} {
		assert.Contains(t, got, name)
	}
	assert.Len(t, got["race"].Tracks, 6)
}

// TestManyItemsTakeLittleMemory: what is known of files that nobody asks for is let go, and found out again.
func TestManyItemsTakeLittleMemory(t *testing.T) {
	files := map[string][]byte{}
	for _, name := range []string{"one", "two", "three", "four"} {
		files[name+".flv"] = demo.Loops[0].FLV
	}
	l, got := open(t, files, len(files))
	l.indexes.items.Limit(1)
	l.mu.Lock()
	for _, e := range l.entries {
		l.letGo(e)
	}
	l.mu.Unlock()
	for range 3 {
		for name := range got {
			list, trouble, known := l.Find(name)
			require.True(t, known)
			require.Empty(t, trouble, name)
			require.Len(t, list, 2)
			b, err := l.Make(list[0].Track.Segments[0])
			require.NoError(t, err)
			assert.NotEmpty(t, b)
			assert.Equal(t, 1, l.indexes.items.Len())
		}
	}
	// A file that went meanwhile is said to be gone.
	require.NoError(t, os.Remove(filepath.Join(l.Folder(), "one.flv")))
	_, _, _ = l.Find("two")
	_, trouble, known := l.Find("one")
	assert.True(t, !known || strings.Contains(trouble, "cannot be read now"), trouble)
}

func TestNamesOfUploads(t *testing.T) {
	l, _ := open(t, nil, 0)
	for _, wrong := range []string{"", "..", "x.exe", ".hidden.mp4", "a\x00.mp4", strings.Repeat("x", 300) + ".mp4"} {
		_, err := l.BeginUpload(wrong, 10)
		require.Error(t, err, wrong)
		assert.Contains(t, err.Error(), "expected")
	}
	for name, want := range map[string]string{"race.mp4": "race.mp4", "../../race.mp4": "race (2).mp4", `C:\films\race.mp4`: "race (3).mp4"} {
		u, err := l.BeginUpload(name, 4)
		require.NoError(t, err)
		_, _, err = l.Append(u.ID, 1, strings.NewReader("x"), nil)
		var at *OffsetError
		require.ErrorAs(t, err, &at)
		_, file, err := l.Append(u.ID, 0, strings.NewReader("mo"), nil)
		require.NoError(t, err)
		assert.Empty(t, file)
		_, _, err = l.Append(u.ID, 2, strings.NewReader("ov and more"), nil)
		require.ErrorIs(t, err, ErrTooLong)
		sum := sha256.Sum256([]byte("vi"))
		_, _, err = l.Append(u.ID, 2, strings.NewReader("xx"), &Checksum{sha256.New(), sum[:]})
		require.ErrorIs(t, err, ErrChecksum)
		u, file, err = l.Append(u.ID, 2, strings.NewReader("vi"), &Checksum{sha256.New(), sum[:]})
		require.NoError(t, err)
		assert.EqualValues(t, 4, u.Offset)
		assert.Regexp(t, `^race( \(\d\))?\.mp4$`, file, want)
		// Who did not hear that it is complete asks, and sends nothing a second time.
		again, err := l.FindUpload(u.ID)
		require.NoError(t, err)
		assert.Equal(t, []any{again.Size, file}, []any{again.Offset, again.File})
		_, same, err := l.Append(u.ID, 4, strings.NewReader(""), nil)
		require.NoError(t, err)
		assert.Equal(t, file, same)
		list, err := l.Uploads()
		require.NoError(t, err)
		assert.Empty(t, list)
	}
	_, err := l.FindUpload("../race")
	require.ErrorIs(t, err, ErrNoUpload)
}

// A file that ends the process that looks into it, or takes too much of it, is told and left alone.
func TestAFileThatHarmsIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "race.flv")
	require.NoError(t, os.WriteFile(path, demo.Loops[0].FLV, 0o644))
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(path, old, old))
	l := New(dir, newHeader, func() *exec.Cmd { return exec.Command("false") }, slog.New(slog.DiscardHandler))
	defer l.Close()
	require.Eventually(t, func() bool {
		list := l.List()
		return len(list) == 1 && list[0].Looking == 0 && strings.Contains(list[0].Trouble, "more memory or time")
	}, 20*time.Second, 10*time.Millisecond)
}

// Pipes, devices and links that lead out of the folder are no files; a link within it is one. Nothing waits for them.
func TestOnlyRegularFilesAreItems(t *testing.T) {
	dir := t.TempDir()
	old := time.Now().Add(-time.Hour)
	file := filepath.Join(dir, "race.flv")
	require.NoError(t, os.WriteFile(file, demo.Loops[0].FLV, 0o644))
	require.NoError(t, os.Chtimes(file, old, old))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe.mp4"), 0o644))
	require.NoError(t, os.Symlink("race.flv", filepath.Join(dir, "again.flv")))
	require.NoError(t, os.Symlink("pipe.mp4", filepath.Join(dir, "led.mp4")))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(dir, "out.mp4")))
	l := New(dir, newHeader, nil, slog.New(slog.DiscardHandler))
	require.Eventually(t, func() bool {
		done := 0
		for _, e := range l.List() {
			if e.Looking == 0 {
				done++
			}
		}
		return done == 2
	}, 20*time.Second, 10*time.Millisecond)
	var names []string
	for _, e := range l.List() {
		names = append(names, e.Name)
		assert.Empty(t, e.Trouble)
	}
	assert.Equal(t, []string{"again", "race"}, names)
	_, _, err := openRegular(dir, "pipe.mp4")
	require.ErrorContains(t, err, "no regular file")
	closed := make(chan struct{})
	go func() { l.Close(); close(closed) }()
	select {
	case <-closed:
	case <-time.After(20 * time.Second):
		t.Fatal("the library does not end")
	}
}

// An item keeps its addresses when a file comes whose name would give the same ones, also over a restart; a file that is replaced gets
// other addresses for its segments, and the old ones hold nothing of it.
func TestAddressesOfItemsStay(t *testing.T) {
	l, _ := open(t, map[string][]byte{"a-b.flv": demo.Loops[0].FLV}, 1)
	put := func(name string, b []byte, age time.Duration) {
		path, at := filepath.Join(l.Folder(), name), time.Now().Add(-age)
		require.NoError(t, os.WriteFile(path, b, 0o644))
		require.NoError(t, os.Chtimes(path, at, at))
	}
	find := func(of *Library, items int) map[string]string {
		out := map[string]string{}
		require.Eventually(t, func() bool {
			clear(out)
			of.Look()
			for _, e := range of.List() {
				if e.Looking == 0 {
					out[e.File] = e.Name
				}
			}
			return len(out) == items
		}, 20*time.Second, 10*time.Millisecond)
		return out
	}
	put("A b.flv", demo.Loops[0].FLV, 30*time.Hour) // it is older, and comes first by its name
	want := map[string]string{"a-b.flv": "a-b", "A b.flv": "a-b-2"}
	assert.Equal(t, want, find(l, 2))
	other := New(l.Folder(), newHeader, nil, slog.New(slog.DiscardHandler))
	assert.Equal(t, want, find(other, 2), "after a restart")
	other.Close()
	require.NoError(t, l.Remove("a-b-2"))
	_, err := os.Stat(filepath.Join(l.Folder(), "a-b.flv"))
	require.NoError(t, err, "the other one is still there")

	list, _, _ := l.Find("a-b")
	before := list[0].Track.Segments[0]
	put("a-b.flv", demo.Loops[1].FLV, time.Minute)
	_, err = l.Make(list[1].Track.Segments[0])
	require.ErrorIs(t, err, ErrReplaced, "bytes of another film")
	require.Eventually(t, func() bool {
		l.Look()
		list, _, _ := l.Find("a-b")
		return len(list) > 0 && list[0].Track.Segments[0].Name() != before.Name() && list[0].Track.Segments[0].ETag != before.ETag
	}, 20*time.Second, 10*time.Millisecond)
}
