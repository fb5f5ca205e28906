package ts

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestTextsOfServices are read by the table that their first byte names.
func TestTextsOfServices(t *testing.T) {
	assert.Len(t, signs, 0x20)
	assert.Len(t, letters, 0x30)
	for want, b := range map[string]string{
		"Kestrel Bay":      "Kestrel Bay",
		"Café à la Bière":  "Caf\xc2e \xc1a la Bi\xc1ere",
		"Ærø, 5 €":         "\xe1r\xf9, 5 \xa4",
		"Žluťoučký kůň":    "\xcfZlu\xcftou\xcfck\xc2y k\xcau\xcfn",
		"Регата":           "\x01\xc0\xd5\xd3\xd0\xe2\xd0",
		"Yarış Günü":       "\x05Yar\xfd\xfe G\xfcn\xfc",
		"Αγώνας":           "\x03\xc1\xe3\xfe\xed\xe1\xf2",
		"Prix d’été":       "\x15Prix d’été",
		"Regatta ł":        "\x10\x00\x02Regatta \xb3",
		"Ωmega":            "\x11\x03\xa9\x00m\x00e\x00g\x00a",
		"Start line":       "\x1fStart line",
		"\u5e06\u8239":     "\x13\xb7\xab\xb4\xac",
		"line of two":      "line\x8a of two",
		"":                 "\x10\x01",
		"emphasis is none": "\x86emphasis\x87 is none",
	} {
		assert.Equal(t, want, serviceText([]byte(b)), "%q", b)
	}
}
