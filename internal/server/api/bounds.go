package api

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"hash"
	"io"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"
)

// What one server does at once, whoever asks. What is over waits a little, and is
// then told to come again.
const (
	smallBody      = 1 << 20  // bytes of an ordinary request
	openBody       = 16 << 10 // of one from who is not signed in
	mostLarge      = 2        // imports being read and worked on
	mostSmall      = 128      // ordinary bodies
	mostArchives   = 2
	archiveFor     = 15 * time.Minute
	waitFor        = 10 * time.Second
	mostStreams    = 4000
	mostOwnStreams = 60
	mostRequests   = 16384 // connections being served
)

// slots bound how many do something at once.
type slots chan struct{}

// take waits for a slot, and returns how to give it back, or false.
func (s slots) take() (leave func(), ok bool) {
	select {
	case s <- struct{}{}:
	default:
		timer := time.NewTimer(waitFor)
		defer timer.Stop()
		select {
		case s <- struct{}{}:
		case <-timer.C:
			return nil, false
		}
	}
	return sync.OnceFunc(func() { <-s }), true
}

func busy(c fiber.Ctx, what string) error {
	c.Set("Retry-After", "5")
	return fiber.NewError(http.StatusServiceUnavailable, what)
}

// relax gives memory that was needed for something large back to the system,
// once it is quiet.
func (s *Server) relax() {
	if s.relaxing.CompareAndSwap(false, true) {
		time.AfterFunc(3*time.Second, func() {
			s.relaxing.Store(false)
			debug.FreeOSMemory()
		})
	}
}

// A body is what a request carries, read when somebody may send it. It knows
// what was read, for the request's idempotency key.
type body struct {
	stream io.Reader
	digest hash.Hash
	ended  bool
}

func bodyOf(c fiber.Ctx) *body {
	b := &body{digest: sha256.New()}
	if b.stream = c.RequestCtx().RequestBodyStream(); b.stream == nil {
		b.stream = bytes.NewReader(c.Request().Body())
	}
	return b
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.stream.Read(p)
	b.digest.Write(p[:n])
	b.ended = b.ended || err == io.EOF
	return n, err
}

// announces reports whether a request says that it has a body.
func announces(c fiber.Ctx) bool {
	n := c.Request().Header.ContentLength()
	return n > 0 || n == -1
}

// framing keeps requests apart: it refuses those whose end two readers could see at different places,
// and closes the connection of what was not read to its end (RFC 9112, section
// 6.3).
func framing(c fiber.Ctx) error {
	if ambiguous(c.Request().Header.RawHeaders()) {
		c.RequestCtx().SetConnectionClose()
		return fiber.NewError(http.StatusBadRequest, "the request does not say clearly where it ends")
	}
	if coding := c.Get("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") {
		c.RequestCtx().SetConnectionClose()
		return fiber.NewError(http.StatusUnsupportedMediaType, "bodies are taken as they are, without a content coding")
	}
	err := c.Next()
	if b, _ := c.Locals(bodyKey{}).(*body); announces(c) && (b == nil || !b.ended) {
		c.RequestCtx().SetConnectionClose() // what is left of the body must not be taken for the next request
	}
	return err
}

func ambiguous(headers []byte) bool {
	lengths, codings := 0, 0
	for line := range bytes.SplitSeq(headers, []byte("\n")) {
		line = bytes.TrimSuffix(line, []byte("\r"))
		if len(line) == 0 {
			continue
		}
		if line[0] == ' ' || line[0] == '\t' || bytes.IndexByte(line, '\r') >= 0 {
			return true // a line that goes on, or ends twice
		}
		name, value, ok := bytes.Cut(line, []byte(":"))
		if !ok || bytes.ContainsAny(name, " \t") {
			return true
		}
		switch {
		case bytes.EqualFold(name, []byte("Content-Length")):
			if lengths++; !digits(bytes.TrimSpace(value)) {
				return true
			}
		case bytes.EqualFold(name, []byte("Transfer-Encoding")):
			if codings++; !bytes.EqualFold(bytes.TrimSpace(value), []byte("chunked")) {
				return true
			}
		}
	}
	return lengths+codings > 1
}

func digits(text []byte) bool {
	return len(text) > 0 && len(text) < 19 && !slices.ContainsFunc(text, func(b byte) bool { return b < '0' || b > '9' })
}

// client returns the address of who asks: the last one that a trusted proxy names,
// or who is at the other end of the connection. What others write into
// X-Forwarded-For counts for nothing.
func (s *Server) client(c fiber.Ctx) string {
	at, err := netip.ParseAddr(c.RequestCtx().RemoteIP().String())
	if err != nil {
		return "unknown"
	}
	at = at.Unmap()
	if !s.trusts(at) {
		return at.String()
	}
	var names []string
	for _, line := range c.Request().Header.PeekAll(fiber.HeaderXForwardedFor) {
		names = append(names, strings.Split(string(line), ",")...)
	}
	for _, name := range slices.Backward(names) {
		named, err := netip.ParseAddr(strings.TrimSpace(name))
		if err != nil || named.Zone() != "" {
			break
		}
		at = named.Unmap()
		if !s.trusts(at) {
			break
		}
	}
	return at.String()
}

// trusts reports whether an address is that of one of our proxies.
func (s *Server) trusts(a netip.Addr) bool {
	return slices.ContainsFunc(s.proxies, func(p netip.Prefix) bool { return p.Contains(a) })
}

// prefixesOf reads addresses and prefixes; what is neither is left out, as fiber
// does with its own list.
func prefixesOf(texts []string) []netip.Prefix {
	var out []netip.Prefix
	for _, text := range texts {
		if p, err := netip.ParsePrefix(text); err == nil {
			out = append(out, p.Masked())
		} else if a, err := netip.ParseAddr(text); err == nil {
			a = a.Unmap()
			out = append(out, netip.PrefixFrom(a, a.BitLen()))
		}
	}
	return out
}

// streams count the open streams of events, of each account and in all.
type streams struct {
	mu  sync.Mutex
	own map[uint64]int
	all int
}

func (s *streams) open(account uint64) (leave func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.own == nil {
		s.own = map[uint64]int{}
	}
	if s.all >= mostStreams || s.own[account] >= mostOwnStreams {
		return nil, false
	}
	s.all++
	s.own[account]++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.all--
		if s.own[account]--; s.own[account] == 0 {
			delete(s.own, account)
		}
	}), true
}

// patient writes to a connection that must keep reading: each write has its time.
type patient struct {
	*bufio.Writer
	connection net.Conn
}

const writeFor = 30 * time.Second

func (p patient) Write(text []byte) (int, error) {
	if err := p.connection.SetWriteDeadline(time.Now().Add(writeFor)); err != nil {
		return 0, err
	}
	n, err := p.Writer.Write(text)
	if err == nil {
		err = p.Flush()
	}
	return n, err
}

// done lets the connection serve other requests, which have no time of their own.
func (p patient) done() { _ = p.connection.SetWriteDeadline(time.Time{}) } // or it is closed

type bounds struct {
	large, small, archives slots
	streams                streams
	proxies                []netip.Prefix
	relaxing               atomic.Bool
}

func (s *Server) bind() {
	s.large, s.small, s.archives = make(slots, mostLarge), make(slots, mostSmall), make(slots, mostArchives)
	s.proxies = prefixesOf(s.TrustedProxies)
}
