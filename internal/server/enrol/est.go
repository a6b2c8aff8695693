package enrol

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/smallstep/pkcs7"

	"wideknot/internal/line"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// What the listener for certificates takes.
const (
	mostRequest  = 16 << 10
	signWithin   = 10 * time.Second
	signedAtOnce = 16
	certsOnly    = "application/pkcs7-mime; smime-type=certs-only"
	lineOfBase64 = 64
)

// noDeadline is for what takes long by right.
var noDeadline = time.Time{}

// Handler answers EST (RFC 7030): cacerts, simpleenroll by the secret of a join code (HTTP
// Basic; any user name), and simplereenroll by the certificate of before.
func (o *Office) Handler() http.Handler {
	turns := make(chan struct{}, signedAtOnce)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/est/cacerts", func(w http.ResponseWriter, _ *http.Request) { reply(w, o.Authority.Certificate) })
	mux.HandleFunc("GET "+programPath, program(make(chan struct{}, downloadsAtOnce)))
	for path, sign := range map[string]func(*http.Request, *x509.CertificateRequest) (*x509.Certificate, error){
		"POST /.well-known/est/simpleenroll":   o.byCode,
		"POST /.well-known/est/simplereenroll": o.byCertificate,
	} {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
			select {
			case turns <- struct{}{}:
				defer func() { <-turns }()
			case <-r.Context().Done():
				return
			}
			csr, err := request(w, r)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
			signed, err := sign(r, csr)
			if err != nil {
				o.refuse(w, err)
				return
			}
			reply(w, signed)
		})
	}
	return mux
}

// request reads a PKCS #10 request in base64 and checks that who sent it has its key.
func request(w http.ResponseWriter, r *http.Request) (*x509.CertificateRequest, error) {
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || kind != "application/pkcs10" {
		return nil, errors.New("a request is application/pkcs10")
	}
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostRequest))
	if err != nil {
		return nil, errors.New("the request cannot be read, or is too long")
	}
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(text)), ""))
	if err != nil {
		return nil, errors.New("the request is not in base64")
	}
	csr, err := x509.ParseCertificateRequest(raw)
	if err != nil {
		return nil, errors.New("the request is no PKCS #10")
	}
	if err := csr.CheckSignature(); err != nil {
		return nil, errors.New("the request is not signed by its own key")
	}
	return csr, nil
}

func (o *Office) byCode(r *http.Request, csr *x509.CertificateRequest) (*x509.Certificate, error) {
	_, password, _ := r.BasicAuth()
	secret, err := hex.DecodeString(password)
	if err != nil || len(secret) != 16 {
		return nil, ErrCode
	}
	return o.enrol(from(r), [16]byte(secret), csr)
}

func (o *Office) byCertificate(r *http.Request, csr *x509.CertificateRequest) (*x509.Certificate, error) {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		return nil, ErrForeign
	}
	return o.renew(from(r), r.TLS.PeerCertificates[0], csr)
}

// from names who asks, for the audit.
func from(r *http.Request) context.Context {
	origin, _, _ := net.SplitHostPort(r.RemoteAddr)
	return identity.WithActor(r.Context(), identity.Actor{Name: "gateway", Origin: origin})
}

func (o *Office) refuse(w http.ResponseWriter, err error) {
	switch {
	case errors.Is(err, ErrCode):
		w.Header().Set("WWW-Authenticate", `Basic realm="join"`)
		http.Error(w, err.Error(), http.StatusUnauthorized)
	case errors.Is(err, ErrBarred), errors.Is(err, ErrForeign), errors.Is(err, ErrOld):
		http.Error(w, err.Error(), http.StatusForbidden)
	case errors.Is(err, store.ErrAway), errors.Is(err, store.ErrFull):
		w.Header().Set("Retry-After", "5")
		http.Error(w, "the server cannot reach its database", http.StatusServiceUnavailable)
	default:
		slog.Error("signing for a gateway", "error", err)
		http.Error(w, "the request cannot be signed", http.StatusBadRequest)
	}
}

// reply sends one certificate as PKCS #7 without signers, in base64 lines.
func reply(w http.ResponseWriter, c *x509.Certificate) {
	raw, err := pkcs7.DegenerateCertificate(c.Raw)
	if err != nil {
		http.Error(w, "the certificate cannot be written", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", certsOnly)
	w.Header().Set("Content-Transfer-Encoding", "base64")
	text := base64.StdEncoding.EncodeToString(raw)
	for i := 0; i < len(text); i += lineOfBase64 {
		_, _ = io.WriteString(w, text[i:min(i+lineOfBase64, len(text))]+"\n") // who went away is told nothing
	}
}

// Serve answers on a listener until the context ends.
func (o *Office) Serve(ctx context.Context, listen net.Listener, shown *Shown) error {
	server := &http.Server{
		Handler: o.Handler(), ReadHeaderTimeout: signWithin, ReadTimeout: signWithin, WriteTimeout: signWithin, IdleTimeout: signWithin,
		MaxHeaderBytes: mostRequest, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
		TLSConfig: &tls.Config{
			MinVersion: tls.VersionTLS12, ClientAuth: tls.RequestClientCert, // whose it is, and whether it may have expired, renew says
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return shown.Certificate() },
		},
	}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	err := server.ServeTLS(line.Guarded(listen), "", "")
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
