package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/service"
)

func runCommand(args ...string) (string, int) {
	var out bytes.Buffer
	code := Main(args, strings.NewReader(""), &out, &out)
	return out.String(), code
}

func TestEveryCommandHelps(t *testing.T) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Hidden || c.Name() == "help" || c.Name() == "completion" {
			return
		}
		assert.NotEmpty(t, c.Short, c.CommandPath())
		if c.Runnable() && !c.HasSubCommands() {
			assert.NotEmpty(t, c.Example, "%s has no example", c.CommandPath())
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk((&app{}).root())
	out, code := runCommand("--help")
	assert.Zero(t, code)
	assert.Contains(t, out, "Exit codes:")
}

func TestWrongUsage(t *testing.T) {
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"channels", "create"}, "expected 1: CHANNEL"},
		{[]string{"channels", "list", "--nonsense"}, "unknown flag"},
		{[]string{"channels", "nonsense"}, `unknown command "nonsense"`},
		{[]string{"channels", "change", "a"}, "nothing to change"},
		{[]string{"keys", "remove", "a", "b"}, "expected a key's number"},
		{[]string{"ladders", "set", "a"}, "give --file"},
		{[]string{"camera"}, "give --to"},
		{[]string{"camera", "--to", "rtmp://x/in/a/b", "--loop", "no"}, "expected one of start-line, chase-boat"},
		{[]string{"serve", "--log", "loud"}, "expected debug, info, warn or error"},
	} {
		out, code := runCommand(c.args...)
		assert.Equal(t, exitUsage, code, c.args)
		assert.Contains(t, out, c.want, c.args)
	}
	out, code := runCommand("channels", "list", "--server", "http://127.0.0.1:1")
	assert.Equal(t, exitSilent, code)
	assert.Contains(t, out, "does not answer")
}

func TestTokenIsFound(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	t.Setenv("XDG_DATA_HOME", dir) // what runs on this machine is not found
	t.Setenv("METAPLASIS_TOKEN", "")
	a := &app{data: dir}
	assert.Empty(t, a.client().Token)
	require.NoError(t, os.WriteFile(service.TokenFile(dir), []byte("operator\n"), 0o600))
	assert.Empty(t, a.client().Token, "no service was found running on that data folder")
	near := &app{data: dir, dataGiven: true, server: "http://127.0.0.1:9"}
	assert.Empty(t, near.client().Token, "somebody who is named")
	// A service that runs there has left a note in its folder: this process stands in for it.
	other := exec.Command("sh", "-c", "read x", "serve", "rehearse")
	in, err := other.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, other.Start())
	defer func() { _ = in.Close(); _ = other.Wait() }()
	note, err := json.Marshal(service.Running{PID: other.Process.Pid, HTTP: "127.0.0.1:9", Data: dir})
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(service.NotesIn(dir), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(service.NotesIn(dir), "1.json"), note, 0o600))
	assert.Equal(t, "operator", near.client().Token)
	near.server = "http://127.0.0.1:10"
	assert.Empty(t, near.client().Token, "another service than that of the folder")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "metaplasis"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "metaplasis", "client.json"), []byte(`{"server":"http://far:1","token":"remembered"}`), 0o600))
	c := a.client()
	assert.Equal(t, "http://far:1", c.Server)
	assert.Equal(t, "remembered", c.Token)
	a.server = "http://near:2"
	assert.Empty(t, a.client().Token, "a remembered token is for its own server, and the operator's for the one on this machine")
	t.Setenv("METAPLASIS_TOKEN", "environment")
	assert.Equal(t, "environment", a.client().Token)
}

func TestNumbersForPeople(t *testing.T) {
	assert.Equal(t, "-", rate(0))
	assert.Equal(t, "350 kbit/s", rate(350_000))
	assert.Equal(t, "2.44 Mbit/s", rate(2_445_000))
	assert.Equal(t, "30", thousandths(30_000))
	assert.Equal(t, "29.97", thousandths(29_970))
	assert.Equal(t, "127.0.0.1:80", local("[::]:80"))
	assert.Equal(t, "192.0.2.1:80", local("192.0.2.1:80"))
}
