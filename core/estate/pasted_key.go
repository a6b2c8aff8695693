package estate

import (
	"encoding/base64"
	"fmt"
	"strings"
)

// KeyBytes is the length of an X25519 key.
const KeyBytes = 32

// ParseKey reads an X25519 key as WireGuard writes it: 44 base64 characters,
// of which the last is =. Its error says which slip of copying was made.
func ParseKey(text string) ([KeyBytes]byte, error) {
	var key [KeyBytes]byte
	trimmed := strings.TrimSpace(text)
	raw, err := base64.StdEncoding.Strict().DecodeString(trimmed)
	switch {
	case err == nil && len(raw) == KeyBytes && len(trimmed) == 44: // the decoder passes over line ends
		if [KeyBytes]byte(raw) == key {
			return key, fmt.Errorf("the key is all zeros")
		}
		return [KeyBytes]byte(raw), nil
	case len(trimmed) == 43 && !strings.Contains(trimmed, "="):
		return key, fmt.Errorf("the key has 43 characters: the = at its end was lost in copying")
	case len(trimmed) != 44:
		return key, fmt.Errorf("the key has %d characters; it must have 44 and end in =", len(trimmed))
	case strings.ContainsAny(trimmed, "-_"):
		return key, fmt.Errorf("the key is written in URL-safe base64; replace - by + and _ by /")
	}
	return key, fmt.Errorf("the key is not 32 bytes in base64: a character was changed")
}
