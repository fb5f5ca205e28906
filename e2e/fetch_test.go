package e2e

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"

	"metaplasis/internal/settings"

	endian "encoding/binary"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
)

// sealing serves what another server serves, its segments encrypted with AES-128 (RFC 8216, 4.3.2.4), and without parts.
func sealing(t *testing.T, of string) string {
	key := []byte("kestrel bay keys")
	block, err := aes.NewCipher(key)
	require.NoError(t, err)
	number := regexp.MustCompile(`(\d+)\.(m4s|ts)$`)
	lowLatency := regexp.MustCompile(`(?m)^#EXT-X-(PART|PART-INF|PRELOAD-HINT|RENDITION-REPORT|SERVER-CONTROL)[:-].*\n`)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/secret") {
			_, _ = w.Write(key)
			return
		}
		res, err := http.Get(of + r.URL.Path)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		defer func() { _ = res.Body.Close() }()
		b, _ := io.ReadAll(res.Body)
		m := number.FindStringSubmatch(r.URL.Path)
		switch {
		case res.StatusCode != http.StatusOK:
			w.WriteHeader(res.StatusCode)
		case strings.HasSuffix(r.URL.Path, ".m3u8") && bytes.Contains(b, []byte("#EXTINF")):
			b = lowLatency.ReplaceAll(b, nil)
			b = bytes.Replace(b, []byte("#EXT-X-INDEPENDENT-SEGMENTS\n"), []byte("#EXT-X-INDEPENDENT-SEGMENTS\n#EXT-X-KEY:METHOD=AES-128,URI=\"secret\"\n"), 1)
		case m != nil:
			msn, _ := strconv.ParseUint(m[1], 10, 64)
			n := aes.BlockSize - len(b)%aes.BlockSize
			b = append(b, bytes.Repeat([]byte{byte(n)}, n)...)
			cipher.NewCBCEncrypter(block, endian.BigEndian.AppendUint64(make([]byte, 8), msn)).CryptBlocks(b, b)
		}
		_, _ = w.Write(b)
	}))
	t.Cleanup(server.Close)
	return server.URL
}

// TestEncryptedSegmentsAreFetched: another server's live stream whose segments are encrypted is an input like any other,
// in both containers.
func TestEncryptedSegmentsAreFetched(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := &demo.Others[2]
	url := s.channel("far", settings.Settings{Outputs: settings.Outputs{TS: true}}, sourceOnly)
	s.sendLoop(loop, camera.Options{URL: url})
	other := sealing(t, s.http)
	for slug, file := range map[string]string{"cmaf": "index.m3u8", "ts": "ts.m3u8"} {
		s.channel(slug, settings.Settings{Inputs: []settings.Input{settings.ParseInput(other + "/media/far/" + file)}, Packaging: settings.Packaging{Window: 10}}, sourceOnly)
		eventually(t, slug+" on air", func() bool { return s.newest(slug, "source") >= 3 && s.newest(slug, "audio") >= 3 })
		out := s.made(slug, loop)
		assert.Empty(t, out.wrong, slug)
		assert.Greater(t, out.pictures, 60, slug)
		t.Logf("%s: %d pictures in order, sound %v beside them", slug, out.pictures, out.apart)
	}
}
