package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/api"
	"metaplasis/internal/client"
	"metaplasis/internal/settings"
)

// TestRoles: who watches changes nothing, who operates changes no users, and a token may do no more than its
// user.
func TestRoles(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	ctx := context.Background()
	s.channel("line", settings.Settings{}, sourceOnly)
	as := map[api.Role]*client.Client{api.Administer: s.api}
	for name, role := range map[string]api.Role{"gallery": api.Watch, "ana": api.Operate} {
		out, code := s.commandWith("a-long-password\n", "users", "add", name, "--role", string(role))
		require.Zero(t, code, out)
		c := &client.Client{Server: s.api.Server}
		token, err := c.SignIn(ctx, name, "a-long-password", "test")
		require.NoError(t, err)
		assert.Equal(t, role, token.Role)
		c.Token = token.Secret
		as[role] = c
	}
	out, _ := s.command("users", "list")
	assert.Regexp(t, `ana\s+operate`, out)
	assert.Regexp(t, `gallery\s+watch`, out)
	calls := []struct {
		needed       api.Role
		method, path string
		body         string
	}{
		{api.Watch, "GET", "/channels", ""},
		{api.Watch, "GET", "/channels/line", ""},
		{api.Watch, "GET", "/events", ""},
		{api.Operate, "PATCH", "/channels/line", `{"title":"Line"}`},
		{api.Operate, "POST", "/channels/line/keys", `{"label":"camera"}`},
		{api.Operate, "PUT", "/channels/line/input", `{"kind":""}`},
		{api.Operate, "POST", "/channels/line/markers", `{"text":"start"}`},
		{api.Administer, "GET", "/users", ""},
		{api.Administer, "POST", "/users", `{"name":"x","password":"a-long-password","role":"boss"}`},
	}
	for role, c := range as {
		for _, call := range calls {
			req, err := http.NewRequest(call.method, c.Server+"/api/v1"+call.path, strings.NewReader(call.body))
			require.NoError(t, err)
			req.Header.Set("Authorization", "Bearer "+c.Token)
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			require.NoError(t, res.Body.Close())
			assert.Equal(t, !role.May(call.needed), res.StatusCode == http.StatusForbidden, "%s %s as %s: %d", call.method, call.path, role, res.StatusCode)
		}
	}
	ask := func(c *client.Client, method, path, body string) int {
		req, _ := http.NewRequest(method, c.Server+"/api/v1"+path, strings.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+c.Token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		_ = res.Body.Close()
		return res.StatusCode
	}
	assert.Equal(t, 403, ask(as[api.Operate], "POST", "/tokens", `{"label":"more","role":"administer"}`))
	assert.Equal(t, 200, ask(as[api.Operate], "POST", "/tokens", `{"label":"less","role":"watch"}`))
	assert.Equal(t, 400, ask(as[api.Operate], "POST", "/tokens", `{"label":"odd","role":"boss"}`))
	assert.Equal(t, 409, ask(s.api, "DELETE", "/users/admin", ""), "nobody removes their own user")
	out, code := s.command("users", "remove", "gallery")
	require.Zero(t, code, out)
	assert.Equal(t, 401, ask(as[api.Watch], "GET", "/channels", ""), "his tokens went with him")
	out, code = s.commandWith("short\n", "users", "add", "bo")
	assert.NotZero(t, code)
	assert.Contains(t, out, "expected 10 to")
}
