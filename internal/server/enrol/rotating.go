package enrol

import (
	"crypto/tls"
	"sync"
	"time"
)

// Shown is what a server shows of itself to gateways, made anew at half its time.
type Shown struct {
	authority *Authority
	names     []string

	mu   sync.Mutex
	made *tls.Certificate
}

// Shows returns what a server shows under the names by which it is reached.
func (a *Authority) Shows(names []string) *Shown { return &Shown{authority: a, names: names} }

// Certificate returns one that holds for half its time yet.
func (s *Shown) Certificate() (*tls.Certificate, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made == nil || time.Until(s.made.Leaf.NotAfter) < certificateFor/2 {
		made, err := s.authority.ForServer(s.names)
		if err != nil {
			return nil, err
		}
		s.made = made
	}
	return s.made, nil
}
