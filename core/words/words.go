// Package words writes what several packages say in the same words.
package words

import "fmt"

// Many writes how many there are of something, and what they do: "1 gateway has", "3 gateways have".
func Many(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}
