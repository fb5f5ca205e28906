package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/store"
)

// keeps lets the channel keep what is on air, and waits until some of it is.
func (r *rig) keeps() error {
	_, err := r.api.ChangeChannel(context.Background(), slug, map[string]any{"keeping": map[string]any{"timeShiftMinutes": 60, "timeShiftMB": 80}})
	if err != nil {
		return err
	}
	return r.await("something kept", 30*time.Second, func() bool { k := r.kept(); return k != nil && k.Bytes > 1<<20 })
}

func (r *rig) kept() *store.Stock {
	time.Sleep(250 * time.Millisecond) // it is asked again and again
	c, err := r.api.Channel(context.Background(), slug)
	if err != nil {
		return nil
	}
	return c.Status.Kept
}

// whole checks that everything since a time is kept, without a hole, and can be read.
func (r *rig) whole(since time.Time) error {
	at := r.http + "/media/" + slug + "/source/"
	var list *hls.Playlist
	// The first segments since then have to leave the window.
	if err := r.await("three segments that are kept", 30*time.Second, func() bool {
		b, err := fetch(at + "index.m3u8?from=" + since.UTC().Format(time.RFC3339))
		if err == nil {
			list, err = hls.ReadMedia(b)
		}
		return err == nil && len(list.Entries) >= 3
	}); err != nil {
		return err
	}
	for _, e := range list.Entries {
		if e.Gap {
			return fmt.Errorf("segment %d is missing", e.MSN)
		}
		if _, err := fetch(at + e.URI); err != nil {
			return err
		}
	}
	return nil
}

func fetch(address string) ([]byte, error) {
	res, err := http.Get(address)
	if err != nil {
		return nil, err
	}
	defer func() { _ = res.Body.Close() }()
	b, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", address, res.Status)
	}
	return b, err
}

// troubled waits until the channel says that nothing can be kept, goes on for a while, lets it be well again, and looks for holes.
func (r *rig) troubled(well func() error) error {
	begun := time.Now()
	err := r.await("a word of it in the channel's status", 20*time.Second, func() bool {
		time.Sleep(250 * time.Millisecond)
		c, err := r.api.Channel(context.Background(), slug)
		if err != nil {
			return false
		}
		for _, p := range c.Status.Problems {
			if p.Field == "keeping" {
				return true
			}
		}
		return false
	})
	time.Sleep(r.last(15*time.Second, 3*time.Second))
	if e := well(); e != nil {
		return errors.Join(err, e)
	}
	if err != nil {
		return err
	}
	if err := r.await("what waited to be written", 40*time.Second, func() bool { k := r.kept(); return k != nil && k.Error == "" && k.Waiting < 4<<20 }); err != nil {
		return err
	}
	return r.whole(begun)
}

// storeGone takes the store's folder away and puts a file into its place.
func storeGone(r *rig) (string, error) {
	if err := r.keeps(); err != nil {
		return "", err
	}
	at := filepath.Join(r.dir, "data", "store")
	if err := os.Rename(at, at+".away"); err != nil {
		return "", err
	}
	if err := os.WriteFile(at, nil, 0o400); err != nil {
		return "", err
	}
	// Bundles that are open go on where they are; those of another rung cannot be made.
	l, err := r.api.Ladder(context.Background(), slug)
	if err != nil {
		return "", err
	}
	l.Rungs = append(l.Rungs, ladder.Rung{Name: "90p", On: true, Height: 90, Bitrate: 100_000, Effort: 1})
	if _, err := r.api.SetLadder(context.Background(), slug, l); err != nil {
		return "", err
	}
	return "a file in its place for a while; said while it lasted, and no hole behind it", r.troubled(func() error {
		if err := os.Remove(at); err != nil {
			return err
		}
		return os.Rename(at+".away", at)
	})
}

// storeReadOnly lets nothing new be made in the store.
func storeReadOnly(r *rig) (string, error) {
	if !r.mounted {
		return "left out: this needs the right to mount a disk of its own", nil
	}
	if err := r.keeps(); err != nil {
		return "", err
	}
	at := filepath.Join(r.dir, "data", "store")
	if err := syscall.Mount(at, at, "", syscall.MS_BIND, ""); err != nil {
		return "", err
	}
	if err := syscall.Mount("", at, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""); err != nil {
		return "", errors.Join(err, syscall.Unmount(at, syscall.MNT_DETACH))
	}
	well := func() error { return syscall.Unmount(at, syscall.MNT_DETACH) }
	l, err := r.api.Ladder(context.Background(), slug)
	if err != nil {
		return "", errors.Join(err, well())
	}
	l.Rungs = append(l.Rungs, ladder.Rung{Name: "112p", On: true, Height: 112, Bitrate: 100_000, Effort: 1})
	if _, err := r.api.SetLadder(context.Background(), slug, l); err != nil {
		return "", errors.Join(err, well())
	}
	return "a rung more while nothing can be made; said, and no hole behind it", r.troubled(well)
}

// storeSlow keeps in an object store that takes 100 ms for each request: in a service of its own.
func storeSlow(r *rig) (string, error) {
	backend := s3mem.New()
	if err := backend.CreateBucket("kept"); err != nil {
		return "", err
	}
	store := gofakes3.New(backend).Server()
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		asked.Add(1)
		time.Sleep(100 * time.Millisecond)
		store.ServeHTTP(w, req)
	}))
	defer server.Close()
	slow, err := newRig(r.quick, "--store", "s3://key:secret@"+strings.TrimPrefix(server.URL, "http://")+"/kept?tls=off")
	if err != nil {
		return "", err
	}
	defer slow.close()
	begun := time.Now()
	if _, err := slow.api.ChangeChannel(context.Background(), slug, map[string]any{"keeping": map[string]any{"timeShiftMinutes": 60}}); err != nil {
		return "", err
	}
	time.Sleep(slow.last(60*time.Second, 15*time.Second))
	if worst := slow.watch.worst(); worst > 1500*time.Millisecond {
		return "", fmt.Errorf("the player beside it waited for %.2f s", worst.Seconds())
	}
	if lost := slow.watch.lost(); lost > 0 {
		return "", errors.New("the camera beside it was disturbed")
	}
	if err := slow.whole(begun.Add(3 * time.Second)); err != nil {
		return "", err
	}
	return fmt.Sprintf("an object store that takes 100 ms: %d requests, no hole", asked.Load()), nil
}

// storeFull fills the disk of the store.
func storeFull(r *rig) (string, error) {
	if !r.mounted {
		return "left out: this needs the right to mount a disk of its own", nil
	}
	if err := r.keeps(); err != nil {
		return "", err
	}
	path := filepath.Join(r.dir, "filler")
	f, err := os.Create(path)
	if err != nil {
		return "", err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	for block := make([]byte, 1<<20); err == nil; {
		_, err = w.Write(block)
	}
	if !errors.Is(err, syscall.ENOSPC) {
		return "", err
	}
	return "not a byte left; said while it lasted, and no hole behind it", r.troubled(func() error {
		_ = f.Close()
		return os.Remove(path)
	})
}

// lookersBack ask for the past from many places at once.
func lookersBack(r *rig) (string, error) {
	if err := r.keeps(); err != nil {
		return "", err
	}
	end := time.Now().Add(r.last(20*time.Second, 4*time.Second))
	var asked, refused atomic.Int64
	var all sync.WaitGroup
	for n := range 64 {
		all.Go(func() {
			for i := 0; time.Now().Before(end); i++ {
				from := time.Now().Add(-time.Duration(n*977+i*13) * time.Millisecond).UTC().Format("2006-01-02T15:04:05.000Z")
				for _, file := range []string{"index.m3u8?from=", "source/index.m3u8?from=", "index.mpd?from=", "source.mp4?from="} {
					if _, err := fetch(r.http + "/media/" + slug + "/" + file + from); err != nil {
						if strings.Contains(err.Error(), "connection refused") {
							return
						}
						refused.Add(1)
					}
					asked.Add(1)
				}
			}
		})
	}
	all.Wait()
	if !r.alive() {
		return "", errors.New("the service ended")
	}
	return fmt.Sprintf("%d lists, manifests and files from as many places; %d refused", asked.Load(), refused.Load()), nil
}
