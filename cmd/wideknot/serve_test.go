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
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"wideknot/internal/server/api"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

func TestAddressesThatOthersReachAreProtected(t *testing.T) {
	folder := t.TempDir()
	for arguments, want := range map[string]string{
		"serve --listen 0.0.0.0:0":                                             "passwords would be sent in the clear",
		"serve --listen 192.0.2.1:80":                                          "passwords would be sent in the clear",
		"serve --listen 127.0.0.1:0 --tls-cert x":                              "belong together",
		"serve --listen 127.0.0.1:0 --tls-cert x --tls-key y":                  "reading the TLS certificate",
		"serve --listen nowhere":                                               "is not ADDRESS:PORT",
		"demo --listen 0.0.0.0:0 --plain-http":                                 "everybody knows",
		"demo --dsn root@tcp(127.0.0.1:1)/x":                                   "everybody knows",
		"serve --listen 127.0.0.1:0 --config " + folder + "/no.yaml":           "reading the settings",
		"serve --listen 0.0.0.0:0 --plain-http":                                "needs --public-url",
		"serve --listen 0.0.0.0:0 --plain-http --public-url https://k.example": "needs --public-url",
		"serve --listen 0.0.0.0:0 --plain-http --trusted-proxy 192.0.2.1":      "needs --public-url",
		"serve --listen 0.0.0.0:0 --plain-http --public-url https://k.example --trusted-proxy 192.0.2.1 --var " + shortFolder(t): "no administrator has a password yet",
		"serve --listen 127.0.0.1:0 --oidc-issuer x --var " + shortFolder(t):                                                     "needs --oidc-client",
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
		}, nil)
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
	if answer, text := ask("GET", "/metrics", ""); answer.StatusCode != 200 || !containsAll(text, "wideknot_http_request_duration_seconds_bucket", "wideknot_build_info{", `wideknot_stored{kind="estates"}`, `wideknot_findings{severity="error"}`, "go_sql_open_connections") {
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

// opened is the desk of what these settings keep, and what closes it.
func opened(t *testing.T, s settings) (*desk.Desk, func()) {
	t.Helper()
	ctx := context.Background()
	access, stop, err := s.database(ctx, false)
	if err != nil {
		t.Fatal(err)
	}
	db, err := store.Open(ctx, access)
	if err != nil {
		stop()
		t.Fatal(err)
	}
	closed := func() {
		db.Close()
		stop()
	}
	sealer, err := s.sealerFor(ctx, db)
	if err != nil {
		closed()
		t.Fatal(err)
	}
	return desk.New(db, sealer), closed
}

// What is backed up comes back elsewhere, with the keys that the same master
// key opens; and a changed master key still opens everything.
func TestBackupRestoreAndANewMasterKey(t *testing.T) {
	one, two := shortFolder(t), shortFolder(t)
	use := func(folder string, do func(ctx context.Context, d *desk.Desk)) {
		t.Helper()
		s := settings{folder: folder}
		ctx := context.Background()
		d, stop := opened(t, s)
		defer stop()
		do(ctx, d)
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
	before, copied := "", []byte(nil)
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
		if copied, err = os.ReadFile(filepath.Join(one, "master.key")); err != nil {
			t.Fatal(err)
		}
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
	present, err := os.ReadFile(filepath.Join(one, "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(one, "master.key"), append(present, copied...), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, complaint := call(t, "restore", file, "--var", one); code == 0 || !strings.Contains(complaint, "--replace") {
		t.Errorf("restoring over what is there: %d %s", code, complaint)
	}
	// The backup was made with the key of that time, and only with it can it be loaded.
	keyOfTwo := filepath.Join(two, "master.key")
	if code, _, complaint := call(t, "restore", file, "--var", two); code == 0 || !strings.Contains(complaint, "put a copy of the key") {
		t.Errorf("restoring without a key: %d %s", code, complaint)
	}
	if _, err := identity.NewSealer(keyOfTwo); err != nil {
		t.Fatal(err)
	}
	if code, _, complaint := call(t, "restore", file, "--var", two); code == 0 || !strings.Contains(complaint, "not made with this master key") {
		t.Errorf("restoring with another key: %d %s", code, complaint)
	}
	if err := os.WriteFile(keyOfTwo, copied, 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, complaint := call(t, "restore", file, "--var", two); code != 0 || !strings.Contains(out, "Restored") {
		t.Fatalf("%d %s %s", code, out, complaint)
	}
	use(two, func(ctx context.Context, d *desk.Desk) {
		if key(ctx, d) != before {
			t.Error("the restored key is another one")
		}
		if v, err := d.View(ctx, desk.Place{Estate: "three", Draft: desk.First}); err != nil || v.Undo != "Import a document" {
			t.Errorf("%v", err)
		}
	})
	// A key that is gone, or another one, is never silently replaced.
	if err := os.Remove(keyOfTwo); err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"put your copy of it back", "sealed with another master key"} {
		if code, _, complaint := call(t, "serve", "--var", two, "--listen", "127.0.0.1:0"); code == 0 || !strings.Contains(complaint, want) {
			t.Errorf("serving with a key that is not the one: %d %s", code, complaint)
		}
		if _, err := os.Stat(keyOfTwo); i == 0 && err == nil {
			t.Error("a new key was made beside sealed secrets")
		}
		if _, err := identity.NewSealer(keyOfTwo); err != nil {
			t.Fatal(err)
		}
	}
	nothing := shortFolder(t)
	for _, command := range []string{"backup --out " + filepath.Join(nothing, "b.zip"), "rotate-key", "migrate"} {
		if code, _, complaint := call(t, append(strings.Fields(command), "--var", nothing)...); code != 2 || !strings.Contains(complaint, "no database in this folder") {
			t.Errorf("%s of an empty folder: %d %s", command, code, complaint)
		}
	}
	if left, _ := os.ReadDir(nothing); len(left) > 0 {
		t.Errorf("it left %v", left)
	}
	if code, _, complaint := call(t, "migrate", "--var", two, "--to", "1"); code != 2 || !strings.Contains(complaint, "loses what") {
		t.Errorf("going down without asking: %d %s", code, complaint)
	}
	for _, c := range []struct{ to, want string }{{"1", "are of version 1"}, {"3", "are of version 3"}, {"77", "there is no version 77"}} {
		_, out, complaint := call(t, "migrate", "--var", two, "--yes", "--to", c.to)
		if !strings.Contains(out+complaint, c.want) {
			t.Errorf("migrate --to %s: %s %s", c.to, out, complaint)
		}
	}
}

// Eight changes of the key at once, and changes that are killed at any moment,
// leave every secret open.
func TestChangingTheMasterKeySurvives(t *testing.T) {
	if folder := os.Getenv("WIDEKNOT_TEST_ROTATE"); folder != "" {
		code, out, complaint := call(t, "rotate-key", "--var", folder)
		fmt.Println(code, out, complaint)
		return
	}
	s := settings{folder: shortFolder(t)}
	ctx := context.Background()
	d, stop := opened(t, s)
	defer stop()
	if _, err := d.Create(ctx, "Three"); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("../../examples/two-hubs.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := d.Import(ctx, desk.At("three", desk.First), desk.Parcel{Document: string(text)}, false); err != nil {
		t.Fatal(err)
	}
	place := desk.Place{Estate: "three", Draft: desk.First}
	want, err := d.PrivateKey(ctx, place, "first")
	if err != nil {
		t.Fatal(err)
	}
	start := func() *exec.Cmd {
		command := exec.Command(os.Args[0], "-test.run", "^TestChangingTheMasterKeySurvives$")
		command.Env = append(os.Environ(), "WIDEKNOT_TEST_ROTATE="+s.folder)
		if err := command.Start(); err != nil {
			t.Fatal(err)
		}
		return command
	}
	check := func(when string) {
		t.Helper()
		if key, err := d.PrivateKey(ctx, place, "first"); err != nil || key != want {
			t.Errorf("%s: %v", when, err)
		}
	}
	var all []*exec.Cmd
	for range 8 {
		all = append(all, start())
	}
	for _, command := range all {
		if err := command.Wait(); err != nil {
			t.Error(err)
		}
	}
	check("after eight at once")
	keys, err := os.ReadFile(s.keyFile())
	if err != nil || len(strings.Fields(string(keys))) != 9 {
		t.Errorf("%d keys are in the file, %v", len(strings.Fields(string(keys))), err)
	}
	for i := range 8 {
		command := start()
		time.Sleep(time.Duration(20+i*15) * time.Millisecond)
		_ = command.Process.Kill()
		_ = command.Wait()
		check("after kill -9")
	}
	if code, out, complaint := call(t, "rotate-key", "--var", s.folder, "--forget"); code != 0 {
		t.Errorf("%d %s %s", code, out, complaint)
	}
	check("after forgetting the former keys")
}

func containsAll(text string, parts ...string) bool {
	for _, part := range parts {
		if !strings.Contains(text, part) {
			return false
		}
	}
	return true
}
