package line

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// An authority signs certificates for the test.
type authority struct {
	t    *testing.T
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
	pool *x509.CertPool
	last int64
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{t: t, pool: x509.NewCertPool()}
	a.key, a.cert, _ = a.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "authority"}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign})
	a.pool.AddCert(a.cert)
	return a
}

func (a *authority) sign(c *x509.Certificate) (*ecdsa.PrivateKey, *x509.Certificate, []byte) {
	a.t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		a.t.Fatal(err)
	}
	a.last++
	c.SerialNumber, c.NotBefore, c.NotAfter = big.NewInt(a.last), time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	parent, by := a.cert, a.key
	if parent == nil {
		parent, by = c, key
	}
	raw, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, by)
	if err != nil {
		a.t.Fatal(err)
	}
	made, err := x509.ParseCertificate(raw)
	if err != nil {
		a.t.Fatal(err)
	}
	return key, made, raw
}

// shows is a certificate for both uses, as each end of a line is server and client of
// something.
func (a *authority) shows(name string) tls.Certificate {
	key, _, raw := a.sign(&x509.Certificate{
		Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	})
	return tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}
}

// calls runs a gateway that calls a listener, and returns how to take its next line: as
// the client of TLS and HTTP/2.
func calls(t *testing.T, d Device, own tls.Certificate, a *authority) (listen net.Listener, told chan bool) {
	t.Helper()
	listen, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	told = make(chan bool, 100)
	h := &Home{Device: d, Servers: []string{listen.Addr().String()}, TLS: &tls.Config{Certificates: []tls.Certificate{own}, ClientCAs: a.pool}, Log: slog.New(slog.DiscardHandler), Told: func(up bool, _ string) { told <- up }}
	ended := make(chan error, 1)
	go func() { ended <- h.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
		_ = listen.Close()
	})
	return listen, told
}

// take accepts a call and returns a client that speaks over it.
func take(t *testing.T, listen net.Listener, shows tls.Certificate, pool *x509.CertPool, name string) (*http.Client, net.Conn, error) {
	t.Helper()
	_ = listen.(*net.TCPListener).SetDeadline(time.Now().Add(10 * time.Second))
	raw, err := listen.Accept()
	if err != nil {
		t.Fatal(err)
	}
	conn := tls.Client(raw, &tls.Config{Certificates: []tls.Certificate{shows}, RootCAs: pool, ServerName: name, NextProtos: []string{"h2"}, MinVersion: tls.VersionTLS13})
	if err := conn.Handshake(); err != nil {
		_ = raw.Close()
		return nil, nil, err
	}
	given := false
	protocols := &http.Protocols{}
	protocols.SetHTTP2(true)
	return &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{Protocols: protocols, DialTLSContext: func(context.Context, string, string) (net.Conn, error) {
		if given {
			return nil, net.ErrClosed
		}
		given = true
		return conn, nil
	}}}, conn, nil
}

func ask(t *testing.T, c *http.Client, method, path, body string) (int, string) {
	t.Helper()
	r, err := http.NewRequest(method, "https://tarn"+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		r.Header.Set("Content-Type", yangJSON)
	}
	answer, err := c.Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body)
	return answer.StatusCode, string(text)
}

// A gateway calls, both ends prove who they are, and what is tried over a line is confirmed
// over the next one only.
func TestGatewayCallsHome(t *testing.T) {
	a := newAuthority(t)
	d := &fake{}
	listen, told := calls(t, d, a.shows("tarn"), a)
	server := a.shows("server")
	c, conn, err := take(t, listen, server, a.pool, "tarn")
	if err != nil {
		t.Fatal(err)
	}
	if up := <-told; !up {
		t.Error("the line is not told")
	}
	if code, text := ask(t, c, "GET", "/restconf/ds/ietf-datastores:operational/wideknot-gateway:state", ""); code != 200 || !strings.Contains(text, `"site":"tarn"`) {
		t.Errorf("%d %s", code, text)
	}
	if code, text := ask(t, c, "PUT", "/restconf/ds/"+candidate, smallest); code != 204 {
		t.Fatalf("%d %s", code, text)
	}
	const trial, confirm = `{"ietf-netconf:input":{"confirmed":[null],"persist":"r1"}}`, `{"ietf-netconf:input":{"persist-id":"r1"}}`
	const commit = "/restconf/operations/ietf-netconf:commit"
	if code, text := ask(t, c, "POST", commit, trial); code != 204 {
		t.Fatalf("%d %s", code, text)
	}
	if code, text := ask(t, c, "POST", commit, confirm); code == 204 {
		t.Errorf("it is confirmed over the line that it was tried over: %s", text)
	}
	if up := <-told; up {
		t.Error("the line is not closed")
	}
	_ = conn.Close()
	if c, _, err = take(t, listen, server, a.pool, "tarn"); err != nil {
		t.Fatal(err)
	}
	if code, text := ask(t, c, "POST", commit, confirm); code != 204 || d.is == nil {
		t.Errorf("%d %s", code, text)
	}
}

// Nobody else is let in, nor told anything; the gateway goes on calling.
func TestStrangersAreRefused(t *testing.T) {
	a, other := newAuthority(t), newAuthority(t)
	listen, _ := calls(t, &fake{}, a.shows("tarn"), a)
	if _, _, err := take(t, listen, a.shows("server"), other.pool, "tarn"); err == nil {
		t.Error("a server takes a gateway of another authority")
	}
	if _, _, err := take(t, listen, a.shows("server"), a.pool, "weir"); err == nil {
		t.Error("a server takes one gateway for another")
	}
	c, _, err := take(t, listen, other.shows("server"), a.pool, "tarn")
	if err == nil { // TLS 1.3: the client learns with its first read that it was refused
		if code, text := ask(t, c, "GET", "/restconf", ""); code != 0 {
			t.Errorf("a stranger is answered: %d %s", code, text)
		}
	}
	if c, _, err = take(t, listen, a.shows("server"), a.pool, "tarn"); err != nil {
		t.Fatal(err)
	}
	if code, text := ask(t, c, "GET", "/restconf", ""); code != 200 {
		t.Errorf("%d %s", code, text)
	}
	for _, h := range []*Home{{Servers: []string{"x:1"}, TLS: &tls.Config{}}, {TLS: &tls.Config{ClientCAs: a.pool, Certificates: []tls.Certificate{a.shows("tarn")}}}} {
		if err := h.Run(t.Context()); err == nil {
			t.Error("a line without a server, a certificate or an authority is tried")
		}
	}
}

// curl speaks with a gateway that called: where it dials, its bytes are joined to those of
// the line.
func TestCurlOverTheLine(t *testing.T) {
	if _, err := exec.LookPath("curl"); err != nil {
		t.Fatal("curl is missing; make test-tools installs it")
	}
	a := newAuthority(t)
	listen, _ := calls(t, &fake{}, a.shows("tarn"), a)
	near, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer near.Close()
	go func() {
		here, err := near.Accept()
		if err != nil {
			return
		}
		there, err := listen.Accept()
		if err != nil {
			return
		}
		go func() { _, _ = io.Copy(there, here); _ = there.Close() }()
		_, _ = io.Copy(here, there)
		_ = here.Close()
	}()
	folder := t.TempDir()
	file := func(name, kind string, raw []byte) string {
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: raw}), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	server := a.shows("server")
	key, err := x509.MarshalPKCS8PrivateKey(server.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("curl", "-sS", "-m", "10", "--http2", "--tlsv1.3", "--cacert", file("ca.pem", "CERTIFICATE", a.cert.Raw), "--cert", file("cert.pem", "CERTIFICATE", server.Certificate[0]),
		"--key", file("key.pem", "PRIVATE KEY", key), "--connect-to", "tarn:443:"+near.Addr().String(), "-w", "%{http_version}", "https://tarn/restconf/yang-library-version").CombinedOutput()
	if err != nil || string(out) != "{\"ietf-restconf:yang-library-version\":\"2019-01-04\"}\n2" {
		t.Errorf("%v: %s", err, out)
	}
}
