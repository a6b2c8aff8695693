package identity

import (
	"fmt"
	"net/mail"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// normalEmail returns the one form in which an e-mail address is stored and
// compared, byte by byte: composed characters, small letters, no space around.
// Addresses that only look alike, or differ by an accent, stay different.
func normalEmail(email string) string {
	return norm.NFC.String(strings.ToLower(norm.NFC.String(strings.TrimSpace(email))))
}

// parseEmail reads an address that somebody gives to an account.
func parseEmail(email string) (string, error) {
	normal := normalEmail(email)
	parsed, err := mail.ParseAddress(normal)
	if err != nil || parsed.Address != normal || len(normal) > 200 || strings.ContainsFunc(normal, notInEmail) {
		return "", &Refused{Field: "email", Text: fmt.Sprintf("%q is not an e-mail address", shorten(email, 200))}
	}
	return normal, nil
}

// notInEmail finds what nobody could see in an address, or would see elsewhere.
func notInEmail(r rune) bool { return r <= ' ' || !printable(r) }
