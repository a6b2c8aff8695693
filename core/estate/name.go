package estate

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxName is the longest name of anything, in characters.
const MaxName = 120

var keyForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// deviceNames are names that some systems take for a device wherever they stand;
// keys become names of folders and files.
var deviceNames = regexp.MustCompile(`^(con|prn|aux|nul|com[0-9]|lpt[0-9])$`)

// keyTrouble says why a text cannot be a key; it is empty for one that can.
func keyTrouble(key string) string {
	switch {
	case !isKey(key):
		return "1 to 40 of a-z, 0-9 and -, not beginning with -"
	case len(key) <= 4 && deviceNames.MatchString(key):
		return "some systems take that name for a device, and no folder could have it"
	}
	return ""
}

func (v *validator) key(path, key, kind string, seen map[string]bool) {
	trouble := keyTrouble(key)
	switch {
	case trouble != "":
		v.fail(path, "%q cannot be a %s key: %s", brief(key), kind, trouble)
	case seen[key]:
		v.fail(path, "%s key %q is given twice", kind, key)
	}
	seen[key] = true
}

// invisible are letters and symbols that show nothing.
const invisible = "\u115f\u1160\u2800\u3164\uffa0"

// name refuses what a reader could not see, or would see in another order:
// control characters, line ends, zero-width and turning characters.
func (v *validator) name(path, name string) {
	switch {
	case !utf8.ValidString(name) || strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) }) || strings.ContainsAny(name, invisible):
		v.fail(path, "%q holds characters that cannot be seen", brief(name))
	case utf8.RuneCountInString(name) > MaxName:
		v.fail(path, "the text is longer than %d characters", MaxName)
	}
}
