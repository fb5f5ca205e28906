package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Running is a service of this user on this machine, for commands that look for one.
type Running struct {
	PID     int       `json:"pid"`
	HTTP    string    `json:"http"` // host:port
	Data    string    `json:"data"` // its data folder, where the operator's token is
	Started time.Time `json:"started"`
}

// announce leaves a note that this process serves, in a folder that only this user reads.
func announce(folder string, r Running) (withdraw func(), err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("folder of running services: %w", err)
	}
	b, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, strconv.Itoa(r.PID)+".json")
	if err := os.WriteFile(path, b, 0o600); err != nil {
		return nil, fmt.Errorf("note of a running service: %w", err)
	}
	return func() { _ = os.Remove(path) }, nil
}

// NotesIn is where a service leaves a note of itself in its own data folder, for commands that are told of the folder.
func NotesIn(data string) string { return filepath.Join(data, "running") }

// FindRunning lists the services that run now by the notes in a folder, the newest first. Notes that a
// crash left are removed.
func FindRunning(folder string) (out []Running) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		path := filepath.Join(folder, e.Name())
		b, err := os.ReadFile(path)
		var r Running
		if err != nil || !strings.HasSuffix(e.Name(), ".json") || json.Unmarshal(b, &r) != nil || r.PID <= 0 {
			continue
		}
		if err := syscall.Kill(r.PID, 0); err != nil && !errors.Is(err, syscall.EPERM) || !isThisProgram(r.PID) {
			_ = os.Remove(path)
			continue
		}
		at := 0
		for at < len(out) && out[at].Started.After(r.Started) {
			at++
		}
		out = append(out[:at], append([]Running{r}, out[at:]...)...)
	}
	return out
}

// isThisProgram tells a service from another process that got its number.
func isThisProgram(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil {
		return true // where that cannot be told, its port will
	}
	args := strings.Split(string(b), "\x00")
	return len(args) > 1 && (strings.Contains(string(b), "\x00serve\x00") ||
		strings.Contains(string(b), "\x00rehearse\x00"))
}
