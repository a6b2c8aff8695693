package enrol

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"wideknot/internal/gateway/join"
	"wideknot/internal/line"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// bureau is an office that answers on a port, for an estate with the key brindle.
type bureau struct {
	*Office
	t      *testing.T
	estate store.Estate
	at     string
}

func opened(t *testing.T) *bureau {
	t.Helper()
	db, _ := store.Testing(t)
	sealer, err := identity.NewSealer(filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	authority, err := OpenAuthority(ctx, db, sealer)
	if err != nil {
		t.Fatal(err)
	}
	row := store.Estate{Key: "brindle", Name: "Brindle", CreatedAt: time.Now()}
	if err := db.InTransaction(ctx, func(tx *store.Tx) error { return tx.AddEstate(&row) }); err != nil {
		t.Fatal(err)
	}
	listen, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	b := &bureau{&Office{Store: db, Authority: authority, Enrol: []string{listen.Addr().String()}, Lines: []string{"127.0.0.1:1"}}, t, row, listen.Addr().String()}
	serving, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- b.Serve(serving, listen, authority.Shows([]string{"127.0.0.1"})) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	return b
}

// code makes a join code for a site.
func (b *bureau) code(site string) *line.JoinCode {
	b.t.Helper()
	text, _, err := b.Code(context.Background(), b.estate, site, time.Hour)
	if err != nil {
		b.t.Fatal(err)
	}
	code, err := line.ParseJoinCode(text)
	if err != nil {
		b.t.Fatal(err)
	}
	return code
}

func (b *bureau) joins(folder string, code *line.JoinCode) (*join.Identity, error) {
	return join.Join(context.Background(), folder, code, join.Way{})
}

// refused reports whether a server refused, by a status.
func refused(err error, status int) bool {
	var r *join.Refused
	return errors.As(err, &r) && r.Status == status
}

func TestACodeIsForOneGatewayAndEnds(t *testing.T) {
	b := opened(t)
	code := b.code("tarn")
	first, second := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
	id, err := b.joins(first, code)
	if err != nil {
		t.Fatal(err)
	}
	if estate, site := id.Site(); estate != "brindle" || site != "tarn" {
		t.Errorf("it joined as %s of %s", site, estate)
	}
	if again, err := join.Open(first); err != nil || again.Certificate().Leaf.SerialNumber.Cmp(id.Certificate().Leaf.SerialNumber) != 0 {
		t.Errorf("what was kept: %v", err)
	}
	if _, err := b.joins(second, code); !refused(err, http.StatusUnauthorized) {
		t.Errorf("another gateway joins by the same code: %v", err)
	}
	if _, err := join.Open(second); !errors.Is(err, join.ErrNot) {
		t.Errorf("who was refused has an identity: %v", err)
	}
	// A code that was taken back, one that a newer took the place of, and one that ended.
	old := b.code("weir")
	newer := b.code("weir")
	if _, err := b.joins(second, old); !refused(err, http.StatusUnauthorized) {
		t.Errorf("by a code of before: %v", err)
	}
	if err := b.Withdraw(context.Background(), b.estate, "weir"); err != nil {
		t.Fatal(err)
	}
	if _, err := b.joins(second, newer); !refused(err, http.StatusUnauthorized) {
		t.Errorf("by a code that was taken back: %v", err)
	}
	text, _, err := b.Code(context.Background(), b.estate, "weir", time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(5 * time.Millisecond)
	ended, _ := line.ParseJoinCode(text)
	if _, err := b.joins(second, ended); !refused(err, http.StatusUnauthorized) {
		t.Errorf("by a code that ended: %v", err)
	}
	unknown := *newer
	unknown.Secret[3]++
	if _, err := b.joins(second, &unknown); !refused(err, http.StatusUnauthorized) {
		t.Errorf("by a secret that nobody gave: %v", err)
	}
	for _, lasts := range []time.Duration{0, -time.Hour, LongestCode + 1} {
		if _, _, err := b.Code(context.Background(), b.estate, "weir", lasts); err == nil {
			t.Errorf("a code that lasts %v", lasts)
		}
	}
}

// An answer that was lost strands nobody: the same key asks again, and gets a certificate.
func TestALostAnswerIsAskedForAgain(t *testing.T) {
	b := opened(t)
	code := b.code("tarn")
	folder := filepath.Join(t.TempDir(), "a")
	cut := func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := (&net.Dialer{}).DialContext(ctx, network, address)
		return &cutOnceDone{c, b}, err
	}
	if _, err := join.Join(context.Background(), folder, code, join.Way{Dial: cut}); err == nil {
		t.Fatal("the answer was not lost")
	}
	if _, err := b.joins(folder, code); err != nil {
		t.Errorf("asked again: %v", err)
	}
	if _, err := b.joins(filepath.Join(t.TempDir(), "b"), code); !refused(err, http.StatusUnauthorized) {
		t.Errorf("another key: %v", err)
	}
}

// cutOnceDone lets nothing more through once the gateway is known to the server.
type cutOnceDone struct {
	net.Conn
	b *bureau
}

func (c *cutOnceDone) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	time.Sleep(50 * time.Millisecond)
	known := false
	if err := c.b.Store.Snapshot(context.Background(), func(tx *store.Tx) error {
		rows, err := tx.LiveGateways(c.b.estate.ID)
		known = len(rows) > 0
		return err
	}); err != nil {
		return 0, err
	}
	if known {
		return 0, net.ErrClosed
	}
	return n, err
}

func TestRenewing(t *testing.T) {
	b := opened(t)
	ctx := context.Background()
	id, err := b.joins(filepath.Join(t.TempDir(), "a"), b.code("tarn"))
	if err != nil {
		t.Fatal(err)
	}
	before := id.Certificate().Leaf
	if err := id.Renew(ctx); err != nil {
		t.Fatal(err)
	}
	if after := id.Certificate().Leaf; after.SerialNumber.Cmp(before.SerialNumber) == 0 || after.NotAfter.Before(before.NotAfter) {
		t.Error("the certificate is not a newer one")
	}
	if err := b.Bar(ctx, b.estate, "tarn", true); err != nil {
		t.Fatal(err)
	}
	if err := id.Renew(ctx); err == nil || !strings.Contains(err.Error(), "barred") {
		t.Errorf("a barred gateway renews: %v", err)
	}
	if err := b.Bar(ctx, b.estate, "tarn", false); err != nil {
		t.Fatal(err)
	}
	if err := id.Renew(ctx); err != nil {
		t.Errorf("let in again: %v", err)
	}
	// Another machine joined in its place: the certificate of before is worth nothing.
	if _, err := b.joins(filepath.Join(t.TempDir(), "b"), b.code("tarn")); err != nil {
		t.Fatal(err)
	}
	if err := id.Renew(ctx); err == nil || !strings.Contains(err.Error(), "another has joined in its place") {
		t.Errorf("who was replaced renews: %v", err)
	}
}

// An expired certificate renews for a year; a foreign one, and a server's, never.
func TestWhoMayRenew(t *testing.T) {
	b := opened(t)
	ctx := context.Background()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	if err != nil {
		t.Fatal(err)
	}
	csr, err := x509.ParseCertificateRequest(raw)
	if err != nil {
		t.Fatal(err)
	}
	code := b.code("tarn")
	good, err := b.enrol(ctx, code.Secret, csr)
	if err != nil {
		t.Fatal(err)
	}
	aged := func(days int) *x509.Certificate { // the same, which expired some days ago
		shape := *good
		shape.NotAfter = time.Now().Add(-time.Duration(days) * 24 * time.Hour)
		shape.NotBefore = shape.NotAfter.Add(-certificateFor)
		raw, err := x509.CreateCertificate(rand.Reader, &shape, b.Authority.Certificate, key.Public(), b.Authority.key)
		if err != nil {
			t.Fatal(err)
		}
		c, err := x509.ParseCertificate(raw)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	shape := *good
	raw, err = x509.CreateCertificate(rand.Reader, &shape, &shape, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	own, err := x509.ParseCertificate(raw)
	if err != nil {
		t.Fatal(err)
	}
	server, err := b.Authority.ForServer([]string{"127.0.0.1"})
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name  string
		shown *x509.Certificate
		want  error
	}{
		{"good", good, nil}, {"expired yesterday", aged(1), nil}, {"expired for eleven months", aged(330), nil},
		{"expired for longer than a year", aged(370), ErrOld}, {"signed by itself", own, ErrForeign}, {"a server's", server.Leaf, ErrForeign},
	} {
		if _, err := b.renew(ctx, test.shown, csr); !errors.Is(err, test.want) {
			t.Errorf("%s: %v", test.name, err)
		}
	}
	weak := *csr
	weak.PublicKey = "no key at all"
	if _, err := b.renew(ctx, good, &weak); err == nil {
		t.Error("a key of no kind is signed for")
	}
}

// Whoever has read RFC 7030 joins and renews with curl and openssl alone.
func TestOpensslAndCurlJoin(t *testing.T) {
	b := opened(t)
	folder := t.TempDir()
	run := func(script string) string {
		t.Helper()
		c := exec.Command("sh", "-euc", script)
		c.Dir = folder
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", script, err, out)
		}
		return string(out)
	}
	for _, tool := range []string{"curl", "openssl"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Fatalf("%s is missing; make test-tools installs it", tool)
		}
	}
	code := b.code("tarn")
	est := "https://" + b.at + "/.well-known/est"
	run("curl -fsSk " + est + "/cacerts | base64 -d | openssl pkcs7 -inform DER -print_certs -out ca.pem")
	if pin := run("openssl x509 -in ca.pem -noout -pubkey | openssl pkey -pubin -outform DER | openssl dgst -sha256 -r"); pin[:64] != fmt.Sprintf("%x", code.Pin) {
		t.Errorf("the code pins %x, and the authority's key is %s", code.Pin, pin)
	}
	run("openssl ecparam -name prime256v1 -genkey -noout -out key.pem; openssl req -new -key key.pem -subj /CN=whoever -outform DER | base64 > csr.b64")
	enrol := fmt.Sprintf("curl -sS --cacert ca.pem -w '%%{http_code}' -o answer.b64 -u join:%x -H 'Content-Type: application/pkcs10' --data-binary @csr.b64 %s/simpleenroll", code.Secret, est)
	if status := run(enrol); status != "200" {
		t.Fatalf("simpleenroll: %s", status)
	}
	run("base64 -d answer.b64 | openssl pkcs7 -inform DER -print_certs -out own.pem; openssl verify -CAfile ca.pem own.pem")
	if text := run("openssl x509 -in own.pem -noout -text"); !strings.Contains(text, "URI:wideknot:gateway/brindle/tarn") || !strings.Contains(text, "CN = tarn") && !strings.Contains(text, "CN=tarn") {
		t.Errorf("the certificate:\n%s", text)
	}
	if status := run("curl -sS --cacert ca.pem --cert own.pem --key key.pem -w '%{http_code}' -o again.b64 -H 'Content-Type: application/pkcs10' --data-binary @csr.b64 " + est + "/simplereenroll"); status != "200" {
		t.Errorf("simplereenroll: %s", status)
	}
	for want, asked := range map[string]string{
		"401": "-u join:00 -H 'Content-Type: application/pkcs10' --data-binary @csr.b64 " + est + "/simpleenroll",
		"403": "-H 'Content-Type: application/pkcs10' --data-binary @csr.b64 " + est + "/simplereenroll",
		"400": "-H 'Content-Type: application/pkcs10' --data-binary nonsense " + est + "/simpleenroll",
		"404": est + "/serverkeygen",
	} {
		if status := run("curl -sS --cacert ca.pem -w '%{http_code}' -o /dev/null " + asked); status != want {
			t.Errorf("%s: %s, not %s", asked, status, want)
		}
	}
}

// A code of another authority leads to nobody: the gateway does not say its secret.
func TestAGatewayKnowsWhomItAsks(t *testing.T) {
	b, other := opened(t), opened(t)
	code := b.code("tarn")
	code.Enrol = other.Enrol
	if _, err := b.joins(filepath.Join(t.TempDir(), "a"), code); err == nil || !strings.Contains(err.Error(), "not of the authority that the code names") {
		t.Errorf("it asked another: %v", err)
	}
	// One that shows the authority's certificate, and has no key of a server's.
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	gatewayOfOurs, err := b.Authority.sign(key.Public(), "brindle", "weir")
	if err != nil {
		t.Fatal(err)
	}
	listen, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{gatewayOfOurs.Raw, b.Authority.Certificate.Raw}, PrivateKey: key}}})
	if err != nil {
		t.Fatal(err)
	}
	defer listen.Close()
	asked := make(chan string, 1)
	go func() {
		_ = http.Serve(listen, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { asked <- r.Header.Get("Authorization") }))
	}()
	code = b.code("tarn")
	code.Enrol = []string{listen.Addr().String()}
	if _, err := b.joins(filepath.Join(t.TempDir(), "b"), code); err == nil || !strings.Contains(err.Error(), "it is not a server's") {
		t.Errorf("a gateway plays the server: %v", err)
	}
	select {
	case secret := <-asked:
		t.Errorf("it was told %q", secret)
	default:
	}
}

// A gateway whose clock begins in 1970 joins and renews.
func TestAClockThatStandsStill(t *testing.T) {
	b := opened(t)
	stopped := func() time.Time { return time.Unix(60, 0) }
	id, err := join.Join(context.Background(), filepath.Join(t.TempDir(), "a"), b.code("tarn"), join.Way{Now: stopped})
	if err != nil {
		t.Fatal(err)
	}
	if err := id.Renew(context.Background()); err != nil {
		t.Error(err)
	}
}

// user-data is YAML that cloud-init takes, with nothing in it that the code does not need.
func TestCloudInit(t *testing.T) {
	b := opened(t)
	text, err := b.CloudInit("brindle", "tarn", "CODE-OF-A-SITE")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(string(text), "#cloud-config\n") {
		t.Errorf("it begins with %.30q", text)
	}
	var data struct {
		Packages []string
		Files    []cloudFile `yaml:"write_files"`
		Run      [][]string  `yaml:"runcmd"`
	}
	if err := yaml.Unmarshal(text, &data); err != nil {
		t.Fatal(err)
	}
	modes := map[string]string{}
	for _, f := range data.Files {
		modes[f.Path] = f.Permissions
		if f.Path == "/etc/wideknot/authority.pem" {
			if block, _ := pem.Decode([]byte(f.Content)); block == nil || string(block.Bytes) != string(b.Authority.Certificate.Raw) {
				t.Error("the authority in it is another")
			}
		}
	}
	if modes["/etc/wideknot/join-code"] != "0600" || modes["/etc/systemd/system/wideknot-gateway.service"] != "0644" || len(data.Run) < 6 {
		t.Errorf("files %v, %d commands", modes, len(data.Run))
	}
	// The program is what this server is.
	response, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: b.Authority.Pool}}}).Get("https://" + b.at + programPath)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	own, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(own)
	if err != nil {
		t.Fatal(err)
	}
	n, err := countBytes(response)
	if err != nil || n != info.Size() {
		t.Errorf("the program has %d bytes of %d: %v", n, info.Size(), err)
	}
}

func countBytes(r *http.Response) (n int64, err error) {
	room := make([]byte, 1<<16)
	for {
		m, err := r.Body.Read(room)
		if n += int64(m); err != nil {
			if err.Error() == "EOF" {
				return n, nil
			}
			return n, err
		}
	}
}

// There is one authority, whoever makes it first; and its key is sealed anew with the rest.
func TestOneAuthority(t *testing.T) {
	db, _ := store.Testing(t)
	file := filepath.Join(t.TempDir(), "master.key")
	sealer, err := identity.NewSealer(file)
	if err != nil {
		t.Fatal(err)
	}
	pins := make(chan [32]byte, 8)
	for range 8 {
		go func() {
			a, err := OpenAuthority(context.Background(), db, sealer)
			if err != nil {
				t.Error(err)
				pins <- [32]byte{}
				return
			}
			pins <- a.Pin()
		}()
	}
	first := <-pins
	for range 7 {
		if other := <-pins; other != first {
			t.Error("there are two authorities")
		}
	}
	if err := identity.AddKey(file); err != nil {
		t.Fatal(err)
	}
	if sealer, err = identity.LoadSealer(file); err != nil {
		t.Fatal(err)
	}
	if changed, err := Reseal(context.Background(), db, sealer); err != nil || !changed {
		t.Errorf("sealed anew: %v, %v", changed, err)
	}
	if err := identity.ForgetKeys(file); err != nil {
		t.Fatal(err)
	}
	if sealer, err = identity.LoadSealer(file); err != nil {
		t.Fatal(err)
	}
	if a, err := OpenAuthority(context.Background(), db, sealer); err != nil || a.Pin() != first {
		t.Errorf("with the new key alone: %v", err)
	}
}
