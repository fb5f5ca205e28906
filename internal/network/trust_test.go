package network

import (
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A certificate of the other side's own making is taken when its fingerprint is told, and no other one is.
func TestTheCertificateThatIsTold(t *testing.T) {
	s := httptest.NewTLSServer(nil)
	defer s.Close()
	sum := sha256.Sum256(s.Certificate().Raw)
	colons := strings.TrimSuffix(strings.ToUpper(fmt.Sprintf("% x", sum)), " ")
	for query, good := range map[string]bool{
		"": false, "verify=1": false, "verify=0": true, "verify=" + fmt.Sprintf("%x", sum): true, "verify=" + strings.ReplaceAll(colons, " ", ":"): true,
		"verify=" + strings.Repeat("00", 32): false,
	} {
		u, err := url.Parse(s.URL + "/?a=b&" + query)
		require.NoError(t, err)
		c, err := Trust(u, true)
		require.NoError(t, err)
		conn, err := tls.Dial("tcp", u.Host, c)
		assert.Equal(t, good, err == nil, "%s: %v", query, err)
		if err == nil {
			_ = conn.Close()
		}
		assert.Equal(t, "a=b", strings.TrimSuffix(WithoutTrust(u), "&"))
	}
	c, err := Trust(&url.URL{Host: "camera"}, false)
	require.NoError(t, err)
	assert.True(t, c.InsecureSkipVerify, "cameras have certificates of their own making")
	_, err = Trust(&url.URL{RawQuery: "verify=maybe"}, true)
	assert.ErrorContains(t, err, "expected 1, 0, or the SHA-256 fingerprint")
}
