package line

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"
)

// Who a certificate is of stands in it as a URI: wideknot:server, or
// wideknot:gateway/ESTATE/SITE.
const (
	scheme      = "wideknot"
	serverName  = "server"
	gatewayName = "gateway/"
)

// ServerURI is in the certificates of servers.
func ServerURI() *url.URL { return &url.URL{Scheme: scheme, Opaque: serverName} }

// GatewayURI is in the certificate of a gateway.
func GatewayURI(estate, site string) *url.URL {
	return &url.URL{Scheme: scheme, Opaque: gatewayName + estate + "/" + site}
}

// GatewayOf reads which gateway a certificate is of.
func GatewayOf(c *x509.Certificate) (estate, site string, ok bool) {
	for _, u := range c.URIs {
		rest, is := strings.CutPrefix(u.Opaque, gatewayName)
		if u.Scheme != scheme || !is {
			continue
		}
		if estate, site, ok = strings.Cut(rest, "/"); ok && estate != "" && site != "" && !strings.Contains(site, "/") {
			return estate, site, true
		}
	}
	return "", "", false
}

// isServer reports whether a certificate is of a server.
func isServer(c *x509.Certificate) bool {
	for _, u := range c.URIs {
		if u.Scheme == scheme && u.Opaque == serverName {
			return true
		}
	}
	return false
}

// KeyDigest is the SHA-256 of a certificate's public key.
func KeyDigest(c *x509.Certificate) [32]byte { return sha256.Sum256(c.RawSubjectPublicKeyInfo) }

// SignedBy verifies that the authority signed a certificate and that it is in its time.
func SignedBy(authority *x509.CertPool, c *x509.Certificate, at time.Time) error {
	_, err := c.Verify(x509.VerifyOptions{Roots: authority, CurrentTime: at, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	return err
}

// ErrStranger is of a far end that is nobody the authority knows.
var ErrStranger = errors.New("whoever is at the other end shows no certificate of this authority")

// CheckServer is for tls.Config.VerifyConnection of a gateway: the far end must be a server
// of the authority. At tells the time; a clock that is late takes the certificate's start.
func CheckServer(authority *x509.CertPool, at func() time.Time) func(tls.ConnectionState) error {
	return func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) == 0 {
			return ErrStranger
		}
		c := s.PeerCertificates[0]
		now := at()
		if now.Before(c.NotBefore) {
			now = c.NotBefore
		}
		if err := SignedBy(authority, c, now); err != nil {
			return fmt.Errorf("%w: %w", ErrStranger, err)
		}
		if !isServer(c) {
			return fmt.Errorf("%w: it is not a server's", ErrStranger)
		}
		return nil
	}
}
