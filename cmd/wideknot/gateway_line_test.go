package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// What a gateway calls its servers with is read before anything else is done, and what is
// wrong with it is named.
func TestServersToCall(t *testing.T) {
	folder := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	certText, keyText := selfSigned(t)
	cert, key := file("cert.pem", certText), file("key.pem", keyText)
	for _, test := range []struct {
		calling
		says string
	}{
		{calling{}, ""},
		{calling{[]string{"knot.example"}, cert, key, cert}, ""},
		{calling{[]string{"knot.example"}, cert, file("none", ""), cert}, "this gateway's certificate"},
		{calling{[]string{"knot.example"}, cert, key, filepath.Join(folder, "missing")}, "the servers' authority"},
		{calling{[]string{"knot.example"}, cert, key, key}, "has no certificate in PEM"},
		{calling{[]string{""}, cert, key, cert}, "without a name"},
	} {
		got, id, err := test.read(nil, t.TempDir())
		if id != nil {
			t.Errorf("%v: it joined somebody", test.calling)
		}
		switch {
		case test.says != "":
			if err == nil || !strings.Contains(err.Error(), test.says) {
				t.Errorf("%v: %v", test.calling, err)
			}
		case err != nil:
			t.Errorf("%v: %v", test.calling, err)
		case len(test.servers) > 0 && !slices.Equal(got.Servers, []string{"knot.example:4336"}):
			t.Errorf("it calls %v", got.Servers)
		}
	}
}

// selfSigned makes a certificate and its key, in PEM.
func selfSigned(t *testing.T) (certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(rand.Reader, c, c, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	text, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: text}))
}
