package identity

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// A standIn is a small OpenID Connect provider: it lets everybody in as whom
// the test says.
type standIn struct {
	*httptest.Server
	key       *rsa.PrivateKey
	challenge string
	nonce     string
	claims    map[string]any
}

func newStandIn(t *testing.T) *standIn {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	p := &standIn{key: key}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, body any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(body)
	}
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{
			"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"RS256"},
		})
	})
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "k", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if r.FormValue("code") != "good" || base64.RawURLEncoding.EncodeToString(sum[:]) != p.challenge {
			http.Error(w, `{"error":"invalid_grant"}`, http.StatusBadRequest)
			return
		}
		answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": p.sign(t)})
	})
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	return p
}

func (p *standIn) sign(t *testing.T) string {
	t.Helper()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "k"}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	claims := map[string]any{
		"iss": p.URL, "aud": "wideknot", "sub": "u1", "exp": time.Now().Add(time.Hour).Unix(), "iat": time.Now().Unix(),
		"nonce": p.nonce, "email": "ada@test.example", "email_verified": true,
	}
	for name, value := range p.claims {
		claims[name] = value
	}
	text, _ := json.Marshal(claims)
	signed, err := signer.Sign(text)
	if err != nil {
		t.Fatal(err)
	}
	out, err := signed.CompactSerialize()
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestSignInWithAProvider(t *testing.T) {
	o, c, admin := office(t)
	c.at = time.Now() // as the provider's clock
	seal, err := NewSealer(filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	ctx := from("192.0.2.1")
	far := newStandIn(t)
	p := &Provider{Issuer: far.URL, ClientID: "wideknot", ClientSecret: "s", Name: "Stand-in", Redirect: "http://127.0.0.1:1/api/provider/arrive"}
	depart := func(to string) (state, journey string) {
		t.Helper()
		address, journey, err := o.Depart(ctx, p, seal, to)
		if err != nil {
			t.Fatal(err)
		}
		u, err := url.Parse(address)
		if err != nil || !strings.HasPrefix(address, far.URL+"/authorize?") || u.Query().Get("code_challenge_method") != "S256" {
			t.Fatalf("%s, %v", address, err)
		}
		far.challenge, far.nonce = u.Query().Get("code_challenge"), u.Query().Get("nonce")
		return u.Query().Get("state"), journey
	}
	state, journey := depart("/e/brindlewater?x=1")
	secret, to, err := o.Arrive(ctx, p, seal, journey, state, "good", "")
	if err != nil || to != "/e/brindlewater?x=1" {
		t.Fatalf("%q, %v", to, err)
	}
	if who, _, err := o.BySession(ctx, secret); err != nil || who.Account != admin.ID {
		t.Errorf("%+v, %v", who, err)
	}
	for _, elsewhere := range []string{"https://evil.example/", "//evil.example", "/\\evil.example", ""} {
		state, journey := depart(elsewhere)
		if _, to, err := o.Arrive(ctx, p, seal, journey, state, "good", ""); err != nil || to != "/" {
			t.Errorf("sent on to %q, %v", to, err)
		}
	}
	// Known by its subject, whatever its e-mail address has become.
	far.claims = map[string]any{"email": "new@test.example", "email_verified": false}
	state, journey = depart("/")
	if _, _, err := o.Arrive(ctx, p, seal, journey, state, "good", ""); err != nil {
		t.Error(err)
	}

	other, _ := NewSealer(filepath.Join(t.TempDir(), "other.key"))
	for name, trick := range map[string]func() error{
		"another state": func() error {
			_, journey := depart("/")
			_, _, err := o.Arrive(ctx, p, seal, journey, "x", "good", "")
			return err
		},
		"no journey": func() error {
			state, _ := depart("/")
			_, _, err := o.Arrive(ctx, p, seal, "", state, "good", "")
			return err
		},
		"a forged journey": func() error {
			state, _ := depart("/")
			text, _ := json.Marshal(Journey{State: state, Expires: time.Now().Add(time.Hour)})
			_, _, err := o.Arrive(ctx, p, seal, base64.RawURLEncoding.EncodeToString(other.Seal(text, "journey")), state, "good", "")
			return err
		},
		"an old journey": func() error {
			state, journey := depart("/")
			c.pass(11 * time.Minute)
			defer c.pass(-11 * time.Minute)
			_, _, err := o.Arrive(ctx, p, seal, journey, state, "good", "")
			return err
		},
		"another code": func() error {
			state, journey := depart("/")
			_, _, err := o.Arrive(ctx, p, seal, journey, state, "bad", "")
			return err
		},
		"an identity for another sign-in": func() error {
			state, journey := depart("/")
			far.nonce = "other"
			_, _, err := o.Arrive(ctx, p, seal, journey, state, "good", "")
			return err
		},
		"an identity for another client": func() error {
			far.claims = map[string]any{"aud": "someone-else"}
			state, journey := depart("/")
			_, _, err := o.Arrive(ctx, p, seal, journey, state, "good", "")
			return err
		},
	} {
		far.claims = nil
		if err := trick(); !errors.Is(err, ErrJourney) {
			t.Errorf("%s: %v", name, err)
		}
	}
	var refused *Refused
	for name, claims := range map[string]map[string]any{
		"somebody without account":          {"sub": "u2", "email": "nobody@test.example"},
		"an address that nobody verified":   {"sub": "u2", "email_verified": false},
		"another subject of a known person": {"sub": "u3"},
	} {
		far.claims = claims
		state, journey := depart("/")
		if _, _, err := o.Arrive(ctx, p, seal, journey, state, "good", ""); !errors.As(err, &refused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	far.claims = nil
	if _, err := o.SetAccount(ctx, admin.ID, false, true); err != nil {
		t.Fatal(err)
	}
	gone := &Provider{Issuer: "http://127.0.0.1:1", ClientID: "x", Name: "Gone"}
	if _, _, err := o.Depart(context.Background(), gone, seal, "/"); err == nil {
		t.Error("a provider that is not there was found")
	}
}
