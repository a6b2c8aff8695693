package identity

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// newSecret makes a secret of 130 random bits in 26 letters and digits.
func newSecret() string { return rand.Text() }

// hashOf is what is stored of a random secret. Its bits are random, so a fast
// hash is as good as a slow one.
func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// The cost of a password hash: argon2id with 19 MiB, two passes and one thread
// takes about 20 ms. Its parameters are stored with it and can be raised.
const (
	argonMemory = 19 * 1024 // KiB
	argonPasses = 2
	argonBytes  = 32
	saltBytes   = 16
)

// hashing lets few passwords be hashed at once, so that guessing cannot fill
// the memory.
var hashing = make(chan struct{}, 4)

// hashPassword returns the argon2id hash of a password in the PHC string form.
func hashPassword(password string) string {
	salt := make([]byte, saltBytes)
	_, _ = rand.Read(salt) // never fails
	hashing <- struct{}{}
	defer func() { <-hashing }()
	sum := argon2.IDKey([]byte(password), salt, argonPasses, argonMemory, 1, argonBytes)
	encode := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonPasses, encode(salt), encode(sum))
}

// nobody is hashed against when there is no password, so that this takes as
// long as when there is one.
var nobody = hashPassword(newSecret())

// passwordFits reports whether a password is that of the hash. An empty hash
// fits none.
func passwordFits(hash, password string) bool {
	known := hash != ""
	if !known {
		hash = nobody
	}
	var version, memory, passes int
	var rest string
	if _, err := fmt.Sscanf(hash, "$argon2id$v=%d$m=%d,t=%d,p=1$%s", &version, &memory, &passes, &rest); err != nil {
		return false
	}
	saltText, sumText, _ := strings.Cut(rest, "$")
	salt, err := base64.RawStdEncoding.DecodeString(saltText)
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(sumText)
	if err != nil || len(want) == 0 {
		return false
	}
	hashing <- struct{}{}
	defer func() { <-hashing }()
	got := argon2.IDKey([]byte(password), salt, uint32(passes), uint32(memory), 1, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1 && known
}

// Shortest is how many characters a password has at least; longest how many
// bytes are hashed at most.
const (
	Shortest = 12
	longest  = 1000
)

// checkPassword says what is wrong with a new password.
func checkPassword(password, email string) error {
	letters := map[rune]bool{}
	for _, r := range password {
		letters[r] = true
	}
	switch {
	case utf8.RuneCountInString(password) < Shortest:
		return &Refused{Field: "password", Text: fmt.Sprintf("a password needs at least %d characters; a few words make a good one", Shortest)}
	case len(password) > longest:
		return &Refused{Field: "password", Text: fmt.Sprintf("a password has at most %d bytes", longest)}
	case len(letters) < 5:
		return &Refused{Field: "password", Text: "this password repeats too few characters"}
	case strings.EqualFold(password, email):
		return &Refused{Field: "password", Text: "the password must not be the e-mail address"}
	}
	return nil
}

// Refused is an error of what someone entered: Field names where. Code, when it
// is set, is a word for the reason that a page may show in its own words.
type Refused struct{ Field, Text, Code string }

func (r *Refused) Error() string { return r.Text }

// Errors that callers tell apart.
var (
	ErrSignIn   = errors.New("that e-mail address and password do not go together")
	ErrNoLink   = errors.New("this link was used already, has expired, or a newer one was made; ask for a new one")
	ErrNoAccess = errors.New("sign in first")
	ErrTaken    = errors.New("there is an account of that e-mail address already")
	ErrLast     = errors.New("somebody must stay: this is the last one")
)
