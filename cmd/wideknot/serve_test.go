package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"wideknot/internal/api"
	"wideknot/internal/desk"
	"wideknot/internal/identity"
	"wideknot/internal/store"
)

func TestAddressesThatOthersReachAreProtected(t *testing.T) {
	folder := t.TempDir()
	for arguments, want := range map[string]string{
		"serve --listen 0.0.0.0:0":                                           "passwords would be sent in the clear",
		"serve --listen 192.0.2.1:80":                                        "passwords would be sent in the clear",
		"serve --listen 127.0.0.1:0 --tls-cert x":                            "belong together",
		"serve --listen 127.0.0.1:0 --tls-cert x --tls-key y":                "reading the TLS certificate",
		"serve --listen nowhere":                                             "is not ADDRESS:PORT",
		"demo --listen 0.0.0.0:0 --plain-http":                               "everybody knows",
		"demo --dsn root@tcp(127.0.0.1:1)/x":                                 "everybody knows",
		"serve --listen 127.0.0.1:0 --config " + folder + "/no.yaml":         "reading the settings",
		"serve --listen 0.0.0.0:0 --plain-http --var " + shortFolder(t):      "no administrator has a password yet",
		"serve --listen 127.0.0.1:0 --oidc-issuer x --var " + shortFolder(t): "needs --oidc-client",
	} {
		if code, _, complaint := call(t, strings.Fields(arguments)...); code != 2 || !strings.Contains(complaint, want) {
			t.Errorf("%s: %d %s", arguments, code, complaint)
		}
	}
}

// shortFolder is short enough for the path of a socket.
func shortFolder(t *testing.T) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "wk-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return folder
}

func TestSettingsComeFromFlagsThenEnvironmentThenFile(t *testing.T) {
	file := write(t, "settings.yaml", "listen: 127.0.0.1:1\nrate: 7\ntrusted-proxy: [192.0.2.1, 192.0.2.2]\nverbose: true\noidc-secret: from the file\npublic-url: https://file.example\n")
	t.Setenv("WIDEKNOT_LISTEN", "127.0.0.1:2")
	t.Setenv("WIDEKNOT_PUBLIC_URL", "https://environment.example")
	t.Setenv("WIDEKNOT_MASTER_KEY", "AAAA")
	read := func(arguments ...string) (settings, error) {
		var s settings
		c := &cobra.Command{Use: "x", RunE: func(*cobra.Command, []string) error { return nil }, SilenceErrors: true, SilenceUsage: true}
		s.addServer(c)
		c.SetArgs(arguments)
		return s, c.Execute()
	}
	s, err := read("--config", file, "--listen", "127.0.0.1:3")
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprint(s.listen, s.publicURL, s.rate, s.trustedProxies, s.verbose, s.masterKey, s.oidcSecretText)
	if want := "127.0.0.1:3https://environment.example7[192.0.2.1 192.0.2.2]trueAAAAfrom the file"; strings.ReplaceAll(got, " ", "") != strings.ReplaceAll(want, " ", "") {
		t.Errorf("%s, want %s", got, want)
	}
	for text, want := range map[string]string{"lisen: x\n": "there is no setting \"lisen\"", "rate: many\n": "the setting rate is \"many\"", "a: [": "reading the settings"} {
		if _, err := read("--config", write(t, "bad.yaml", text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// A certificate for this test alone.
func certificate(t *testing.T) (cert, key string, pool *x509.CertPool) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	form := &x509.Certificate{
		SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, form, form, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	privateDER, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	certPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	pool = x509.NewCertPool()
	pool.AppendCertsFromPEM(certPEM)
	return write(t, "cert.pem", string(certPEM)), write(t, "key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: privateDER}))), pool
}

// Over TLS the cookie is for this host alone, and browsers are told to stay
// with TLS. The server is ready while it runs, and is stopped in order.
func TestServeOverTLS(t *testing.T) {
	cert, key, pool := certificate(t)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := taken.Addr().String()
	taken.Close()
	s := settings{listen: address, folder: shortFolder(t), tlsCert: cert, tlsKey: key}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		ended <- s.serve(ctx, func(ctx context.Context, server *api.Server) error {
			return server.Office.AddDemoAccount(ctx, "ada@test.example", "Ada", "quite a long password", true)
		})
	}()
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}, Timeout: 10 * time.Second}
	ask := func(method, path, body string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequest(method, "https://"+address+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Origin", "https://"+address)
		r.Header.Set("Content-Type", "application/json")
		answer, err := client.Do(r)
		if err != nil {
			return nil, err.Error()
		}
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return answer, string(text)
	}
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if answer, _ := ask("GET", "/readyz", ""); answer != nil && answer.StatusCode == 200 {
			break
		}
		select {
		case err := <-ended:
			t.Fatalf("the server ended: %v", err)
		default:
		}
		if time.Now().After(deadline) {
			t.Fatal("the server does not become ready")
		}
	}
	answer, text := ask("POST", "/api/session", `{"email":"ada@test.example","password":"quite a long password"}`)
	cookie := answer.Header.Get("Set-Cookie")
	for _, want := range []string{"__Host-wideknot=", "HttpOnly", "secure", "SameSite=Strict", "path=/"} {
		if !strings.Contains(strings.ToLower(cookie), strings.ToLower(want)) {
			t.Errorf("the cookie %q lacks %s (%s)", cookie, want, text)
		}
	}
	if answer.Header.Get("Strict-Transport-Security") == "" {
		t.Error("browsers are not told to stay with TLS")
	}
	if answer, text := ask("GET", "/metrics", ""); answer.StatusCode != 200 || !strings.Contains(text, "wideknot_request_seconds_bucket") || !strings.Contains(text, "go_sql_open_connections") {
		t.Errorf("%.200s", text)
	}
	if answer, text := ask("GET", "/healthz", ""); answer.StatusCode != 200 || text != "alive\n" {
		t.Errorf("%s", text)
	}
	cancel()
	if err := <-ended; err != nil {
		t.Errorf("it stopped with %v", err)
	}
}

// What is backed up comes back elsewhere, with the keys that the same master
// key opens; and a changed master key still opens everything.
func TestBackupRestoreAndANewMasterKey(t *testing.T) {
	one, two := shortFolder(t), shortFolder(t)
	use := func(folder string, do func(ctx context.Context, d *desk.Desk)) {
		t.Helper()
		s := settings{folder: folder}
		ctx := context.Background()
		dsn, stop, err := s.database(ctx, false)
		if err != nil {
			t.Fatal(err)
		}
		defer stop()
		sealer, err := s.sealer()
		if err != nil {
			t.Fatal(err)
		}
		db, err := store.Open(ctx, dsn)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		do(ctx, desk.New(db, sealer))
	}
	key := func(ctx context.Context, d *desk.Desk) string {
		t.Helper()
		key, err := d.PrivateKey(ctx, desk.Place{Estate: "three", Draft: desk.First}, "first")
		if err != nil {
			t.Fatal(err)
		}
		return key
	}
	text, err := os.ReadFile("../../examples/two-hubs.yaml")
	if err != nil {
		t.Fatal(err)
	}
	before := ""
	file := filepath.Join(t.TempDir(), "backup.zip")
	use(one, func(ctx context.Context, d *desk.Desk) {
		if _, err := d.Create(ctx, "Three"); err != nil {
			t.Fatal(err)
		}
		document := strings.Replace(string(text), "shape: hub-and-spoke,", "shape: hub-and-spoke, preshared_keys: true,", 1)
		if _, _, err := d.Import(ctx, desk.At("three", desk.First), desk.Parcel{Document: document}, false); err != nil {
			t.Fatal(err)
		}
		before = key(ctx, d)
		// While the server runs: by its own socket.
		if code, out, complaint := call(t, "backup", "--var", one, "--out", file); code != 0 || !strings.Contains(out, "Keep the master key") {
			t.Fatalf("%d %s %s", code, out, complaint)
		}
		if code, out, complaint := call(t, "rotate-key", "--var", one); code != 0 || !strings.Contains(out, "5 secrets were sealed with the new key") {
			t.Fatalf("%d %s %s", code, out, complaint)
		}
		if key(ctx, d) != before {
			t.Error("the running server opens another key after the change")
		}
		if code, _, complaint := call(t, "rotate-key", "--var", one, "--forget"); code != 0 {
			t.Fatalf("%d %s", code, complaint)
		}
		if key(ctx, d) != before {
			t.Error("the running server opens another key after the former one was forgotten")
		}
		if code, _, complaint := call(t, "restore", file, "--var", one, "--replace"); code == 0 || !strings.Contains(complaint, "is running") {
			t.Errorf("restoring under a running server: %d %s", code, complaint)
		}
	})
	content, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(content), before) {
		t.Error("the backup holds a private key in the clear")
	}
	if code, _, complaint := call(t, "restore", file, "--var", one); code == 0 || !strings.Contains(complaint, "--replace") {
		t.Errorf("restoring over what is there: %d %s", code, complaint)
	}
	if code, out, complaint := call(t, "restore", file, "--var", two); code != 0 || !strings.Contains(out, "Restored") {
		t.Fatalf("%d %s %s", code, out, complaint)
	}
	// The backup was sealed with the key of that time.
	if _, err := identity.LoadSealer(filepath.Join(two, "master.key")); err != nil {
		t.Fatal(err)
	}
	use(two, func(ctx context.Context, d *desk.Desk) {
		if _, err := d.PrivateKey(ctx, desk.Place{Estate: "three", Draft: desk.First}, "first"); err == nil {
			t.Error("a backup's keys open with another master key")
		}
		if v, err := d.View(ctx, desk.Place{Estate: "three", Draft: desk.First}); err != nil || v.Undo != "Import a document" {
			t.Errorf("%v", err)
		}
	})
	for _, c := range []struct{ to, want string }{{"1", "are of version 1"}, {"3", "are of version 3"}, {"77", "there is no version 77"}} {
		_, out, complaint := call(t, "migrate", "--var", two, "--to", c.to)
		if !strings.Contains(out+complaint, c.want) {
			t.Errorf("migrate --to %s: %s %s", c.to, out, complaint)
		}
	}
}
