package tunnel

import (
	"cmp"
	"strconv"
	"strings"
)

// MaxInterface is the longest interface name Linux takes, in bytes.
const MaxInterface = 15

// interfaceName makes the name of a tunnel's interface: the remote site's key,
// cut to fit, and the slot, which alone makes it unique at the site and never
// changes.
func interfaceName(remote string, slot int) string {
	var room [2 * MaxInterface]byte
	number := strconv.AppendInt(room[:0], int64(slot), 10)
	key := cmp.Or(strings.Trim(remote[:min(len(remote), MaxInterface-1-len(number))], "-"), "t")
	name := append(room[MaxInterface:MaxInterface], key...)
	return string(append(append(name, '-'), number...))
}
