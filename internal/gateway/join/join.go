// Package join makes a gateway one of a server's: by a join code it gets a certificate over
// EST (RFC 7030), which it renews at half its time.
package join

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/smallstep/pkcs7"

	"wideknot/internal/line"
)

// Files of an identity's folder.
const (
	keyFile         = "key.pem"
	certificateFile = "certificate.pem"
	authorityFile   = "authority.pem"
	serversFile     = "servers.json"
)

const (
	askWithin  = 15 * time.Second
	mostAnswer = 64 << 10
	lookEvery  = time.Minute // whether it is time to renew
)

// Servers are where a gateway asks for certificates, and whom it calls.
type Servers struct {
	Enrol []string `json:"enrol"`
	Lines []string `json:"lines"`
}

// An Identity is who a gateway is to its servers.
type Identity struct {
	Servers
	// Dial opens TCP; nil asks the machine's network.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Now tells the time; nil asks the machine's clock.
	Now func() time.Time

	folder    string
	key       *ecdsa.PrivateKey
	authority *x509.Certificate
	pool      *x509.CertPool

	mu          sync.Mutex
	certificate *x509.Certificate
	latest      time.Time // that a server's certificate proved
}

// ErrNot is of a folder in which no gateway has joined.
var ErrNot = errors.New("this gateway has not joined any server")

// Open reads the identity in a folder.
func Open(folder string) (*Identity, error) {
	id := &Identity{folder: folder, pool: x509.NewCertPool()}
	text, err := os.ReadFile(filepath.Join(folder, serversFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNot
	} else if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &id.Servers); err != nil || len(id.Enrol) == 0 || len(id.Lines) == 0 {
		return nil, fmt.Errorf("%s is damaged: join anew", filepath.Join(folder, serversFile))
	}
	if id.key, err = readKey(folder); err != nil {
		return nil, err
	}
	for name, into := range map[string]**x509.Certificate{certificateFile: &id.certificate, authorityFile: &id.authority} {
		text, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			return nil, err
		}
		block, _ := pem.Decode(text)
		if block == nil {
			return nil, fmt.Errorf("%s holds no certificate", name)
		}
		if *into, err = x509.ParseCertificate(block.Bytes); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	id.pool.AddCert(id.authority)
	return id, nil
}

func readKey(folder string) (*ecdsa.PrivateKey, error) {
	text, err := os.ReadFile(filepath.Join(folder, keyFile))
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key", keyFile)
	}
	return x509.ParseECPrivateKey(block.Bytes)
}

// makeKey reads the key of a folder, made where there is none: so a gateway whose answer was
// lost asks again with the same.
func makeKey(folder string) (*ecdsa.PrivateKey, error) {
	key, err := readKey(folder)
	if !errors.Is(err, fs.ErrNotExist) {
		return key, err
	}
	if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	raw, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, write(folder, keyFile, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: raw}))
}

// write replaces a file as a whole.
func write(folder, name string, text []byte) error {
	next := filepath.Join(folder, name+".next")
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, filepath.Join(folder, name))
}

// A Way of reaching servers and telling the time; zero is the machine's.
type Way struct {
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	Now  func() time.Time
}

// joining is added to the name of an identity's folder while it is being made.
const joining = ".joining"

// Join asks for a certificate by a code and keeps all that is got in a folder, in place of
// what was there: a gateway that joins anew has a new key. Until it has joined it stays who
// it was.
func Join(ctx context.Context, folder string, code *line.JoinCode, way Way) (*Identity, error) {
	made := folder + joining
	if err := os.MkdirAll(made, 0o700); err != nil {
		return nil, err
	}
	key, err := makeKey(made)
	if err != nil {
		return nil, fmt.Errorf("this gateway's key for its servers: %w", err)
	}
	id := &Identity{Servers: Servers{code.Enrol, code.Lines}, Dial: way.Dial, Now: way.Now, folder: made, key: key}
	password := hex.EncodeToString(code.Secret[:])
	var trouble error
	for _, server := range code.Enrol {
		var signed, authority *x509.Certificate
		signed, authority, trouble = id.ask(ctx, server, "simpleenroll", nil, func(chain []*x509.Certificate) (*x509.Certificate, error) {
			for _, c := range chain {
				if sha256.Sum256(c.RawSubjectPublicKeyInfo) == code.Pin {
					return c, nil
				}
			}
			return nil, errors.New("the server there is not of the authority that the code names; do not go on, and ask who gave the code")
		}, func(r *http.Request) { r.SetBasicAuth("join", password) })
		if trouble == nil {
			id.authority, id.pool = authority, x509.NewCertPool()
			id.pool.AddCert(authority)
			id.certificate = signed
			if err := id.keep(); err != nil {
				return nil, err
			}
			id.folder = folder
			return id, errors.Join(os.RemoveAll(folder), os.Rename(made, folder))
		}
		var refused *Refused
		if errors.As(trouble, &refused) {
			break
		}
	}
	return nil, trouble
}

// keep writes all that is known, the servers last: with them the identity is whole.
func (id *Identity) keep() error {
	servers, err := json.Marshal(id.Servers)
	if err != nil {
		return err
	}
	one := func(c *x509.Certificate) []byte {
		return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
	}
	return errors.Join(write(id.folder, authorityFile, one(id.authority)), write(id.folder, certificateFile, one(id.certificate)), write(id.folder, serversFile, servers))
}

// Refused is what a server said in refusing.
type Refused struct {
	Status int
	Words  string
}

// Error says it.
func (r *Refused) Error() string { return "the server refuses: " + r.Words }

// now is the latest of the clock and the times that certificates prove: a clock that starts
// in 1970 keeps nobody out.
func (id *Identity) now() time.Time {
	now := time.Now
	if id.Now != nil {
		now = id.Now
	}
	id.mu.Lock()
	defer id.mu.Unlock()
	out := now()
	if id.certificate != nil && out.Before(id.certificate.NotBefore) {
		out = id.certificate.NotBefore
	}
	if out.Before(id.latest) {
		out = id.latest
	}
	return out
}

// ask sends a request for a certificate of the identity's key to one server, whose authority
// is found among what it shows.
func (id *Identity) ask(ctx context.Context, server, operation string, shows *tls.Certificate, authorityOf func([]*x509.Certificate) (*x509.Certificate, error), dress func(*http.Request)) (signed, authority *x509.Certificate, err error) {
	raw, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, id.key)
	if err != nil {
		return nil, nil, err
	}
	config := &tls.Config{
		MinVersion: tls.VersionTLS13, InsecureSkipVerify: true, // VerifyConnection does it, by the authority and not by a name
		VerifyConnection: func(s tls.ConnectionState) (err error) {
			if authority, err = authorityOf(s.PeerCertificates); err != nil {
				return err
			}
			pool := x509.NewCertPool()
			pool.AddCert(authority)
			return line.CheckServer(pool, id.now)(s)
		},
	}
	if shows != nil {
		config.Certificates = []tls.Certificate{*shows}
	}
	client := &http.Client{Timeout: askWithin, Transport: &http.Transport{TLSClientConfig: config, DialContext: id.Dial, DisableKeepAlives: true}}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+server+"/.well-known/est/"+operation, bytes.NewReader([]byte(base64.StdEncoding.EncodeToString(raw)+"\n")))
	if err != nil {
		return nil, nil, err
	}
	r.Header.Set("Content-Type", "application/pkcs10")
	if dress != nil {
		dress(r)
	}
	answer, err := client.Do(r)
	if err != nil {
		return nil, nil, fmt.Errorf("asking %s: %w", server, err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostAnswer))
	if err != nil {
		return nil, nil, fmt.Errorf("asking %s: %w", server, err)
	}
	if answer.StatusCode != http.StatusOK {
		if answer.StatusCode >= 500 {
			return nil, nil, fmt.Errorf("asking %s: %s", server, strings.TrimSpace(string(text)))
		}
		return nil, nil, &Refused{answer.StatusCode, strings.TrimSpace(string(text))}
	}
	if signed, err = certificateIn(text); err != nil {
		return nil, nil, fmt.Errorf("the answer of %s: %w", server, err)
	}
	if own, ok := signed.PublicKey.(*ecdsa.PublicKey); !ok || !own.Equal(id.key.Public()) {
		return nil, nil, fmt.Errorf("the answer of %s: the certificate is of another key", server)
	}
	if err := signed.CheckSignatureFrom(authority); err != nil {
		return nil, nil, fmt.Errorf("the answer of %s: %w", server, err)
	}
	return signed, authority, nil
}

func (id *Identity) proved(at time.Time) {
	id.mu.Lock()
	defer id.mu.Unlock()
	if at.After(id.latest) {
		id.latest = at
	}
}

// certificateIn reads one certificate in a PKCS #7 in base64.
func certificateIn(text []byte) (*x509.Certificate, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(text)), ""))
	if err != nil {
		return nil, errors.New("it is not in base64")
	}
	p7, err := pkcs7.Parse(raw)
	if err != nil || len(p7.Certificates) == 0 {
		return nil, fmt.Errorf("it holds no certificate: %w", err)
	}
	return p7.Certificates[0], nil
}

// Certificate is what the gateway shows at present.
func (id *Identity) Certificate() tls.Certificate {
	id.mu.Lock()
	defer id.mu.Unlock()
	return tls.Certificate{Certificate: [][]byte{id.certificate.Raw}, PrivateKey: id.key, Leaf: id.certificate}
}

// Site says as which site of which estate the gateway joined.
func (id *Identity) Site() (estate, site string) {
	estate, site, _ = line.GatewayOf(id.Certificate().Leaf)
	return estate, site
}

// TLS is the gateway's side of a line.
func (id *Identity) TLS() *tls.Config {
	check := line.CheckServer(id.pool, id.now)
	return &tls.Config{
		ClientCAs: id.pool, Time: id.now,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			c := id.Certificate()
			return &c, nil
		},
		VerifyConnection: func(s tls.ConnectionState) error {
			if err := check(s); err != nil {
				return err
			}
			id.proved(s.PeerCertificates[0].NotBefore)
			return nil
		},
	}
}

// due reports whether half of the certificate's time is over.
func (id *Identity) due() bool {
	c := id.Certificate().Leaf
	return id.now().After(c.NotBefore.Add(c.NotAfter.Sub(c.NotBefore) / 2))
}

// Renew asks for a new certificate by the present one.
func (id *Identity) Renew(ctx context.Context) error {
	var trouble error
	shows := id.Certificate()
	for _, server := range id.Enrol {
		signed, _, err := id.ask(ctx, server, "simplereenroll", &shows, func([]*x509.Certificate) (*x509.Certificate, error) { return id.authority, nil }, nil)
		if err != nil {
			trouble = err
			continue
		}
		id.mu.Lock()
		id.certificate = signed
		id.mu.Unlock()
		return id.keep()
	}
	return trouble
}

// Keep renews the certificate in time until the context ends.
func (id *Identity) Keep(ctx context.Context, log *slog.Logger) {
	for {
		if id.due() {
			if err := id.Renew(ctx); err != nil && ctx.Err() == nil {
				log.Warn("the certificate is not renewed yet", "until", id.Certificate().Leaf.NotAfter, "reason", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookEvery):
		}
	}
}
