// Package enrol lets gateways join: it is the certificate authority for them and for
// servers, gives and takes back join codes, and signs certificates over EST (RFC 7030).
package enrol

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/url"
	"time"

	"wideknot/internal/line"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// How long what is signed holds. A gateway renews at half.
const (
	authorityFor   = 25 * 365 * 24 * time.Hour
	certificateFor = 30 * 24 * time.Hour
	clockSlack     = time.Hour            // by which clocks may be late
	expiredFor     = 365 * 24 * time.Hour // in which an expired certificate may be renewed
)

const authorityPurpose = "authority"

// An Authority signs for gateways and servers.
type Authority struct {
	Certificate *x509.Certificate
	Pool        *x509.CertPool // of it alone
	key         crypto.Signer
}

// OpenAuthority returns the authority of a database, made where there is none.
func OpenAuthority(ctx context.Context, s *store.Store, sealer *identity.Sealer) (*Authority, error) {
	read := func() (row store.Authority, err error) {
		err = s.Snapshot(ctx, func(tx *store.Tx) error {
			row, err = tx.Authority()
			return err
		})
		return row, err
	}
	row, err := read()
	if errors.Is(err, store.ErrNotFound) {
		if row, err = makeAuthority(sealer); err != nil {
			return nil, err
		}
		err = s.InTransaction(ctx, func(tx *store.Tx) error { return tx.AddAuthority(&row) })
		if errors.Is(err, store.ErrExists) {
			row, err = read() // another server was first
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the certificate authority: %w", err)
	}
	raw, err := sealer.Open(row.Sealed, authorityPurpose)
	if err != nil {
		return nil, fmt.Errorf("opening the key of the certificate authority: %w", err)
	}
	key, err := x509.ParseECPrivateKey(raw)
	if err != nil {
		return nil, fmt.Errorf("the key of the certificate authority: %w", err)
	}
	out := &Authority{key: key, Pool: x509.NewCertPool()}
	if out.Certificate, err = x509.ParseCertificate(row.Certificate); err != nil {
		return nil, fmt.Errorf("the certificate authority: %w", err)
	}
	out.Pool.AddCert(out.Certificate)
	return out, nil
}

func makeAuthority(sealer *identity.Sealer) (row store.Authority, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return row, err
	}
	now := time.Now().UTC()
	shape := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: "Gateways and servers"}, NotBefore: now.Add(-clockSlack), NotAfter: now.Add(authorityFor),
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign, IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
	}
	if row.Certificate, err = x509.CreateCertificate(rand.Reader, shape, shape, key.Public(), key); err != nil {
		return row, err
	}
	raw, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return row, err
	}
	row.Sealed, row.MadeAt = sealer.Seal(raw, authorityPurpose), now
	return row, nil
}

// Reseal seals the authority's key with the present master key, and reports whether an
// older one had sealed it.
func Reseal(ctx context.Context, s *store.Store, sealer *identity.Sealer) (changed bool, err error) {
	err = s.InTransaction(ctx, func(tx *store.Tx) error {
		changed = false
		row, err := tx.Authority()
		if errors.Is(err, store.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		sealed, err := sealer.Reseal(row.Sealed, authorityPurpose)
		if err != nil {
			return fmt.Errorf("the key of the certificate authority: %w", err)
		}
		if sealed == nil {
			return nil
		}
		changed, row.Sealed = true, sealed
		return tx.SaveAuthority(&row)
	})
	return changed, err
}

// serial is a certificate's number.
func serial() *big.Int {
	room := make([]byte, 16)
	_, _ = rand.Read(room) // never fails
	room[0] &= 0x7f
	return new(big.Int).SetBytes(room)
}

// Pin is what join codes carry of the authority.
func (a *Authority) Pin() [32]byte { return sha256.Sum256(a.Certificate.RawSubjectPublicKeyInfo) }

// fit refuses keys that are too weak to be signed for.
func fit(public crypto.PublicKey) error {
	switch k := public.(type) {
	case *ecdsa.PublicKey:
		if k.Curve == elliptic.P256() || k.Curve == elliptic.P384() || k.Curve == elliptic.P521() {
			return nil
		}
	case ed25519.PublicKey:
		return nil
	case *rsa.PublicKey:
		if n := k.N.BitLen(); n >= 2048 && n <= 8192 {
			return nil
		}
	}
	return errors.New("the key must be of NIST P-256, P-384 or P-521, Ed25519, or RSA of 2048 to 8192 bits")
}

// sign signs for a gateway.
func (a *Authority) sign(public crypto.PublicKey, estate, site string) (*x509.Certificate, error) {
	return a.issue(public, &x509.Certificate{
		Subject: pkix.Name{CommonName: site}, URIs: []*url.URL{line.GatewayURI(estate, site)},
	})
}

func (a *Authority) issue(public crypto.PublicKey, shape *x509.Certificate) (*x509.Certificate, error) {
	now := time.Now().UTC()
	shape.SerialNumber, shape.NotBefore, shape.NotAfter = serial(), now.Add(-clockSlack), now.Add(certificateFor)
	shape.KeyUsage, shape.BasicConstraintsValid = x509.KeyUsageDigitalSignature, true
	shape.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth} // each end of a line is a client of something
	raw, err := x509.CreateCertificate(rand.Reader, shape, a.Certificate, public, a.key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(raw)
}

// ForServer returns a certificate of this server under the names by which it is reached.
// Its key is in memory alone.
func (a *Authority) ForServer(names []string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	shape := &x509.Certificate{Subject: pkix.Name{CommonName: "server"}, URIs: []*url.URL{line.ServerURI()}}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			shape.IPAddresses = append(shape.IPAddresses, ip)
		} else {
			shape.DNSNames = append(shape.DNSNames, n)
		}
	}
	c, err := a.issue(key.Public(), shape)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{c.Raw, a.Certificate.Raw}, PrivateKey: key, Leaf: c}, nil
}
