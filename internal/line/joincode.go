package line

import (
	"bytes"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"net"
	"strings"
	"unicode"
)

// A JoinCode lets one gateway join as one site: where it asks, by what, and the authority
// whose servers it then trusts.
type JoinCode struct {
	Secret [16]byte
	Pin    [32]byte // SHA-256 of the authority's public key, as RFC 7469 has it
	Enrol  []string // HOST:PORT where certificates are signed
	Lines  []string // HOST:PORT that are called
}

const (
	codeVersion = 1
	mostServers = 8
	mostHost    = 120
	checkBytes  = 4
	codeGroup   = 8
)

var codeLetters = base32.StdEncoding.WithPadding(base32.NoPadding)

// String writes the code: base32 in groups, the last of it a checksum.
func (c *JoinCode) String() string {
	var b bytes.Buffer
	b.WriteByte(codeVersion)
	b.Write(c.Secret[:])
	b.Write(c.Pin[:])
	for _, list := range [][]string{c.Enrol, c.Lines} {
		text := strings.Join(list, ",")
		b.WriteByte(byte(len(text) >> 8))
		b.WriteByte(byte(len(text)))
		b.WriteString(text)
	}
	sum := sha256.Sum256(b.Bytes())
	b.Write(sum[:checkBytes])
	text := codeLetters.EncodeToString(b.Bytes())
	var out strings.Builder
	for i := 0; i < len(text); i += codeGroup {
		if i > 0 {
			out.WriteByte('-')
		}
		out.WriteString(text[i:min(i+codeGroup, len(text))])
	}
	return out.String()
}

// ParseJoinCode reads what String writes, however it was broken into lines and groups.
func ParseJoinCode(text string) (*JoinCode, error) {
	plain := strings.ToUpper(strings.Map(func(r rune) rune {
		if r == '-' || unicode.IsSpace(r) {
			return -1
		}
		return r
	}, text))
	if len(plain) > 4096 {
		return nil, errors.New("this is no join code: it is too long")
	}
	raw, err := codeLetters.DecodeString(plain)
	if err != nil || len(raw) < 1+16+32+4+checkBytes {
		return nil, errors.New("this is no join code: a part of it is missing, or is not what was given")
	}
	body, check := raw[:len(raw)-checkBytes], raw[len(raw)-checkBytes:]
	if sum := sha256.Sum256(body); !bytes.Equal(sum[:checkBytes], check) {
		return nil, errors.New("this join code has a mistake in it: copy it whole")
	}
	if body[0] != codeVersion {
		return nil, fmt.Errorf("this join code is of version %d, and this program knows %d: they must be of one release", body[0], codeVersion)
	}
	c := &JoinCode{Secret: [16]byte(body[1:17]), Pin: [32]byte(body[17:49])}
	body = body[49:]
	for _, into := range []*[]string{&c.Enrol, &c.Lines} {
		if len(body) < 2 || len(body) < 2+int(body[0])<<8+int(body[1]) {
			return nil, errors.New("this join code is cut short")
		}
		n := int(body[0])<<8 + int(body[1])
		if *into, err = ParseServers(string(body[2 : 2+n])); err != nil {
			return nil, fmt.Errorf("this join code: %w", err)
		}
		body = body[2+n:]
	}
	if len(body) > 0 {
		return nil, errors.New("something follows in this join code")
	}
	return c, nil
}

// ParseServers reads HOST:PORT,HOST:PORT.
func ParseServers(text string) ([]string, error) {
	list := strings.Split(text, ",")
	if len(list) > mostServers {
		return nil, fmt.Errorf("at most %d servers can be named", mostServers)
	}
	for _, s := range list {
		host, port, err := net.SplitHostPort(s)
		if err != nil || host == "" || port == "" || len(s) > mostHost || strings.ContainsFunc(s, func(r rune) bool {
			return r != '.' && r != ':' && r != '-' && r != '[' && r != ']' && r != '_' && (r > '~' || !unicode.IsLetter(r) && !unicode.IsDigit(r))
		}) {
			return nil, fmt.Errorf("%q is not HOST:PORT", s)
		}
	}
	return list, nil
}
