package records

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var quiet = slog.New(slog.DiscardHandler)

// folder is the data folder of the one server that all tests of this package share.
var folder string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "metaplasis-records-")
	if err != nil {
		panic(err)
	}
	folder = dir
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

func open(t *testing.T) *DB {
	s, err := StartServer(context.Background(), folder, quiet)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	db, err := Open(context.Background(), s.DSN)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

func TestRecords(t *testing.T) {
	db := open(t)
	ctx := context.Background()
	now := time.Now().UTC().Truncate(time.Millisecond)

	next, breaks, err := db.AddChannel(ctx, "start-line", `{"slug":"start-line"}`, now)
	require.NoError(t, err)
	assert.Zero(t, next+breaks)
	_, _, err = db.AddChannel(ctx, "start-line", "{}", now)
	assert.ErrorIs(t, err, ErrExists)
	require.NoError(t, db.Reserve(ctx, "start-line", 64, 2))
	require.NoError(t, db.Reserve(ctx, "start-line", 40, 1), "it never goes back")
	list, err := db.Channels(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, Channel{ID: list[0].ID, Slug: "start-line", Settings: `{"slug":"start-line"}`, Created: now, NextMSN: 64, Discontinuities: 2, Revision: 1}, list[0])
	require.NoError(t, db.Settle(ctx, "start-line", 50, 2))
	list, _ = db.Channels(ctx)
	assert.EqualValues(t, 50, list[0].NextMSN, "a channel that closed in good order knows exactly")

	for i := range 5 {
		require.NoError(t, db.PutMarker(ctx, Marker{Channel: "start-line", ID: fmt.Sprint("m", i), At: int64(i), Content: "{}"}, 3))
	}
	require.NoError(t, db.PutMarker(ctx, Marker{Channel: "start-line", ID: "m4", At: 4, Content: `{"returned":true}`}, 3))
	require.NoError(t, db.PutMarker(ctx, Marker{Channel: "nowhere", ID: "m", Content: "{}"}, 3))
	markers, err := db.Markers(ctx, "start-line")
	require.NoError(t, err)
	require.Len(t, markers, 3)
	assert.Equal(t, Marker{ID: "m4", At: 4, Content: `{"returned":true}`}, markers[2])

	secret := NewSecret()
	later := now.Add(time.Hour)
	id, err := db.AddKey(ctx, "start-line", secret, Key{Label: "camera 1", Input: "backup", Protocol: "SRT", Expires: &later})
	require.NoError(t, err)
	found, err := db.FindKey(ctx, "start-line", secret)
	require.NoError(t, err)
	assert.Equal(t, id, found.ID)
	assert.Equal(t, []any{"backup", "SRT", later}, []any{found.Input, found.Protocol, *found.Expires})
	receiving := NewSecret()
	receiver, err := db.AddKey(ctx, "start-line", receiving, Key{Label: "truck", Receives: true})
	require.NoError(t, err)
	digests, receivers, err := db.KeyDigests(ctx, "SRT")
	require.NoError(t, err)
	assert.Equal(t, map[string][][]byte{"start-line": {Digest(secret)}}, digests)
	assert.Equal(t, map[string][][]byte{"start-line": {Digest(receiving)}}, receivers)
	every, err := db.AllKeyDigests(ctx)
	require.NoError(t, err)
	assert.ElementsMatch(t, [][]byte{Digest(secret), Digest(receiving)}, every)
	require.NoError(t, db.RemoveKey(ctx, "start-line", receiver))
	digests, _, err = db.KeyDigests(ctx, "RTSP")
	require.NoError(t, err)
	assert.Empty(t, digests)
	require.NoError(t, db.UseKey(ctx, id, now))
	_, err = db.FindKey(ctx, "start-line", strings.ToUpper(secret))
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = db.FindKey(ctx, "harbour", secret)
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = db.AddKey(ctx, "harbour", NewSecret(), Key{})
	assert.ErrorIs(t, err, ErrNotFound)
	keys, err := db.Keys(ctx, "start-line")
	require.NoError(t, err)
	require.Len(t, keys, 1)
	assert.NotNil(t, keys[0].Used)
	assert.NoError(t, db.RemoveKey(ctx, "start-line", id))
	assert.ErrorIs(t, db.RemoveKey(ctx, "start-line", id), ErrNotFound)

	user, err := db.AddUser(ctx, "admin", "administer", "hash")
	require.NoError(t, err)
	past, future := now.Add(-time.Minute), now.Add(time.Hour)
	for name, expires := range map[string]*time.Time{"old": &past, "console": &future, "forever": nil} {
		kind := "client"
		if name == "console" {
			kind = "console"
		}
		_, err := db.AddToken(ctx, user, kind, name, "watch", name, expires)
		require.NoError(t, err)
	}
	_, err = db.TokenBySecret(ctx, "old")
	assert.ErrorIs(t, err, ErrNotFound, "expired")
	token, err := db.TokenBySecret(ctx, "console")
	require.NoError(t, err)
	assert.Equal(t, "admin", token.User)
	require.NoError(t, db.SetPassword(ctx, user, "other"))
	_, err = db.TokenBySecret(ctx, "console")
	assert.ErrorIs(t, err, ErrNotFound, "a new password ends console sessions")
	_, err = db.TokenBySecret(ctx, "forever")
	assert.ErrorIs(t, err, ErrNotFound, "and client tokens too")

	first := Feed{ID: 7, Channel: "start-line", Protocol: "RTMP", Remote: "192.0.2.7:5", Begun: now, Tracks: "[]"}
	require.NoError(t, db.PutFeed(ctx, first))
	require.NoError(t, db.PutFeed(ctx, Feed{ID: 8, Channel: "harbour", Protocol: "RTMP", Begun: now, Tracks: "[]"}))
	first.Ended, first.Reason = &future, strings.Repeat("ü", 900)
	require.NoError(t, db.PutFeed(ctx, first))
	require.NoError(t, db.EndOpenFeeds(ctx, "crash"))
	feeds, err := db.Feeds(ctx, "", 10)
	require.NoError(t, err)
	require.Len(t, feeds, 2)
	assert.EqualValues(t, 8, feeds[0].ID)
	assert.Equal(t, "crash", feeds[0].Reason)
	assert.Len(t, []rune(feeds[1].Reason), 500)

	for i := range 3 {
		require.NoError(t, db.PutEvent(ctx, Event{ID: int64(i + 1), At: now, Channel: []string{"a", "b", "a"}[i], Level: "info", Kind: "k", Text: strconv.Itoa(i), Count: 1}))
	}
	require.NoError(t, db.PutEvent(ctx, Event{ID: 3, At: now, Channel: "a", Level: "info", Kind: "k", Text: "2", Count: 410, Last: &future}))
	events, err := db.Events(ctx, "a", 10)
	require.NoError(t, err)
	require.Len(t, events, 2)
	assert.Equal(t, "2", events[0].Text)
	assert.EqualValues(t, 410, events[0].Count)
	require.NoError(t, db.RemoveChannel(ctx, "start-line", 90, 3))
	assert.ErrorIs(t, db.RemoveChannel(ctx, "start-line", 0, 0), ErrNotFound)
	next, breaks, err = db.AddChannel(ctx, "start-line", "{}", now)
	require.NoError(t, err)
	assert.Equal(t, []uint64{90, 3}, []uint64{next, breaks}, "a channel that is made again goes on behind the one before")
}

func TestServerReplacesWhatACrashLeft(t *testing.T) {
	first, err := StartServer(context.Background(), folder, quiet)
	require.NoError(t, err)
	pidFile := filepath.Join(folder, "mariadbd.pid")
	b, err := os.ReadFile(pidFile)
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	require.NoError(t, err)
	_, err = StartServer(context.Background(), folder, quiet)
	require.ErrorContains(t, err, "another service is running")
	require.NoError(t, syscall.Kill(pid, 0), "a running service keeps its database")
	close(first.stopping) // as when its process ends
	require.NoError(t, first.lock.Close())
	second, err := StartServer(context.Background(), folder, quiet)
	require.NoError(t, err)
	<-first.done
	assert.Error(t, syscall.Kill(pid, 0), "the one that was left is gone")
	require.NoError(t, second.Stop())

	// A process that only happens to have the number in the file is never touched.
	other := exec.Command("sleep", "60")
	require.NoError(t, other.Start())
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	require.NoError(t, os.WriteFile(pidFile, []byte(strconv.Itoa(other.Process.Pid)), 0o600))
	require.NoError(t, stopLeftover(folder, filepath.Join(folder, "data")))
	assert.NoError(t, syscall.Kill(other.Process.Pid, 0))
}

func TestWrongDSN(t *testing.T) {
	_, err := Open(context.Background(), "nonsense")
	assert.ErrorContains(t, err, "expected user:password@tcp(host:port)/database")
	_, err = Open(context.Background(), "a:b@tcp(127.0.0.1:1)/c")
	assert.ErrorContains(t, err, "bringing the database up to date")
}

func TestSecretsAreLongAndDiffer(t *testing.T) {
	a, b := NewSecret(), NewSecret()
	assert.Len(t, a, 26)
	assert.NotEqual(t, a, b)
	assert.Len(t, Digest(a), 32)
}

func TestWhatIsOldIsForgotten(t *testing.T) {
	db := open(t)
	ctx := context.Background()
	now := time.Now().UTC().Truncate(time.Millisecond)
	old := now.AddDate(0, 0, -keptDays-1)
	_, err := db.x.ExecContext(ctx, "DELETE FROM events")
	require.NoError(t, err)
	require.NoError(t, db.PutEvent(ctx, Event{ID: 1, At: old, Level: "info", Kind: "old", Count: 1}))
	require.NoError(t, db.PutFeed(ctx, Feed{ID: 1, Channel: "x", Begun: old, Ended: &old, Tracks: "[]"}))
	_, err = db.x.ExecContext(ctx, "INSERT INTO events (id, at, channel, level, kind, text, remedy) SELECT seq + 10, ?, '', 'info', 'many', '', '' FROM seq_1_to_20500", now)
	require.NoError(t, err)
	require.NoError(t, db.Prune(ctx))
	var n, oldest int
	require.NoError(t, db.x.QueryRowxContext(ctx, "SELECT COUNT(*), MIN(id) FROM events").Scan(&n, &oldest))
	assert.Equal(t, []int{keptEvents, 511}, []int{n, oldest})
	feeds, err := db.Feeds(ctx, "x", 10)
	require.NoError(t, err)
	assert.Empty(t, feeds)
}

func TestJournalWaitsForTheDatabase(t *testing.T) {
	s, err := StartServer(context.Background(), t.TempDir(), quiet)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Stop()) }()
	db, err := Open(context.Background(), s.DSN)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	j := NewJournal(db, quiet)
	s.mu.Lock()
	pid := s.cmd.Process.Pid
	s.mu.Unlock()
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	stored := make(chan int64, 100)
	put := func(id int64, key, text string) bool {
		return j.Put(Write{Key: key, Size: len(text), Do: func(ctx context.Context, d *DB) error {
			return d.PutEvent(ctx, Event{ID: id, At: time.Now(), Level: "info", Kind: "k", Text: text, Count: 1})
		}, Done: func() { stored <- id }})
	}
	begin := time.Now()
	for i := range int64(50) {
		require.True(t, put(i+1, "", "waits"))
	}
	require.True(t, put(60, "same", "first"))
	require.True(t, put(60, "same", "second"))
	for put(99, "", strings.Repeat("x", 1<<20)) {
	}
	assert.Less(t, time.Since(begin), time.Second, "nobody waits for a database that hangs")
	assert.EqualValues(t, 1, j.State().Lost, "what is past the bound is counted")
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	for i := range int64(50) {
		require.Equal(t, i+1, <-stored, "in order, none twice")
	}
	require.EqualValues(t, 60, <-stored)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	j.Close(ctx)
	list, err := db.Events(context.Background(), "", 100)
	require.NoError(t, err)
	require.Len(t, list, 52)
	assert.Equal(t, "second", list[1].Text, "the newest of a key is what is stored")
	assert.NoError(t, j.State().Err)
}

// TestSettingsOfBeforeAreGrouped: what an earlier version stored reads as the settings of today.
func TestSettingsOfBeforeAreGrouped(t *testing.T) {
	db := open(t)
	ctx := context.Background()
	p, err := migrations(db.x.DB)
	require.NoError(t, err)
	const grouping = 4
	_, err = p.DownTo(ctx, grouping-1)
	require.NoError(t, err)
	_, _, err = db.AddChannel(ctx, "flat", `{"slug":"flat","title":"Flat","segmentMillis":4000,"ts":true,"selections":[{"name":"radio","soundOnly":true}],"closed":true,"ladder":{"planned":true}}`, time.Now())
	require.NoError(t, err)
	_, err = p.Up(ctx)
	require.NoError(t, err)
	read := func() string {
		list, err := db.Channels(ctx)
		require.NoError(t, err)
		for _, c := range list {
			if c.Slug == "flat" {
				return c.Settings
			}
		}
		return ""
	}
	const grouped = `{"slug":"flat","title":"Flat","ladder":{"planned":true},
		"packaging":{"segmentMillis":4000,"partMillis":null,"window":null,"startOffsetMillis":null,"aligned":null,"partFiles":null,"numbered":null,"soundName":null,"language":null,"coverEvery":null},
		"outputs":{"ts":true,"selections":[{"name":"radio","soundOnly":true}]},"access":{"closed":true}}`
	assert.JSONEq(t, grouped, read())
	_, err = p.DownTo(ctx, grouping-1)
	require.NoError(t, err)
	assert.JSONEq(t, `{"slug":"flat","title":"Flat","segmentMillis":4000,"ts":true,"selections":[{"name":"radio","soundOnly":true}],"closed":true,"ladder":{"planned":true}}`, read(), "and back")
	_, err = p.Up(ctx)
	require.NoError(t, err)
	require.NoError(t, db.RemoveChannel(ctx, "flat", 1, 1))
}

// statements are those of a migration's Up part.
func statements(t *testing.T, name string) (out []string) {
	b, err := migrationFiles.ReadFile("migrations/" + name)
	require.NoError(t, err)
	_, up, found := strings.Cut(string(b), "-- +goose Up")
	require.True(t, found, name)
	up, _, _ = strings.Cut(up, "-- +goose Down")
	var lines []string
	for _, line := range strings.Split(up, "\n") {
		if !strings.HasPrefix(line, "--") {
			lines = append(lines, line)
		}
	}
	for _, s := range strings.Split(strings.Join(lines, "\n"), ";\n") {
		if strings.TrimSpace(s) != "" {
			out = append(out, s)
		}
	}
	return out
}

// TestMigrationsGoOnAfterACrash stops each migration behind each of its statements: the next start brings the
// database up to date all the same.
func TestMigrationsGoOnAfterACrash(t *testing.T) {
	db := open(t)
	ctx := context.Background()
	p, err := migrations(db.x.DB)
	require.NoError(t, err)
	files, err := migrationFiles.ReadDir("migrations")
	require.NoError(t, err)
	for i := len(files) - 1; i >= 0; i-- {
		list := statements(t, files[i].Name())
		require.NotEmpty(t, list)
		for n := 1; n <= len(list); n++ {
			_, err = p.DownTo(ctx, int64(i))
			require.NoError(t, err)
			for _, s := range list[:n] { // and then the process was killed
				_, err := db.x.ExecContext(ctx, s)
				require.NoError(t, err, s)
			}
			_, err = p.Up(ctx)
			require.NoError(t, err, "%s behind statement %d", files[i].Name(), n)
		}
	}
	require.NoError(t, db.PutEvent(ctx, Event{ID: 1, At: time.Now(), Level: "info", Kind: "test"}))
}

// A write that the database does not take while it answers others holds up nobody for good.
func TestAWriteThatDoesNotComeThrough(t *testing.T) {
	db := open(t)
	j := NewJournal(db, quiet)
	j.Put(Write{Key: "slow", Do: func(ctx context.Context, _ *DB) error { return context.DeadlineExceeded }})
	stored := make(chan struct{})
	j.Put(Write{Key: "next", Do: func(ctx context.Context, db *DB) error {
		return db.PutEvent(ctx, Event{ID: 77, At: time.Now(), Level: "info", Kind: "test"})
	}, Done: func() { close(stored) }})
	select {
	case <-stored:
	case <-time.After(time.Minute):
		t.Fatal("the next write waits for one that never comes through")
	}
	assert.EqualValues(t, 1, j.State().Lost)
	for _, number := range []uint16{1047, 1290, 1792, 1836} {
		assert.True(t, Unreachable(&mysql.MySQLError{Number: number}), "%d passes", number)
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	j.Close(ctx)
}
