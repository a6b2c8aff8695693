package tunnel

import (
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
)

// SharedKey returns the pre-shared key of a tunnel, 32 bytes in base64, the same
// at both ends: it follows from a secret of the estate (at least 32 random
// bytes), the overlay's key and the tunnel's ident (HKDF with SHA-256, RFC 5869).
func SharedKey(secret []byte, overlay, ident string) (string, error) {
	key, err := hkdf.Key(sha256.New, secret, nil, "wideknot pre-shared key\x00"+overlay+"\x00"+ident, 32)
	if err != nil {
		return "", fmt.Errorf("making the pre-shared key of %s: %w", ident, err)
	}
	return base64.StdEncoding.EncodeToString(key), nil
}
