package tunnel

import (
	"strings"

	"wideknot/core/estate"
)

// KeyVerdict says what a pasted key is.
type KeyVerdict struct {
	Good bool   `json:"good"`
	Text string `json:"text"`
}

// JudgeKey says whether a pasted key is the public key of a site, and if not,
// what it is.
func (p *Plan) JudgeKey(site int, text string) KeyVerdict {
	if _, err := estate.ParseKey(text); err != nil {
		return KeyVerdict{false, err.Error()}
	}
	for i := range p.Estate.Sites {
		if strings.TrimSpace(text) == p.PublicKey(i) {
			if i == site {
				return KeyVerdict{true, "this is the public key of " + p.Site(i).Key}
			}
			return KeyVerdict{false, "this is the public key of " + p.Site(i).Key + ", not of " + p.Site(site).Key}
		}
	}
	return KeyVerdict{false, "this is a well-formed key, but that of no site; the design has another for " + p.Site(site).Key}
}
