package identity

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"wideknot/internal/store"
)

// A Provider signs people in by OpenID Connect (authorization code with PKCE).
// Its issuer is asked for its addresses when it is first needed.
type Provider struct {
	Issuer, ClientID, ClientSecret string
	Name                           string // how its button is called
	Redirect                       string // our address that it sends people back to

	mu       sync.Mutex
	provider *oidc.Provider
}

// A Journey is what must be kept, sealed, while someone is at the provider.
type Journey struct {
	State, Nonce, Verifier, To string
	Expires                    time.Time
}

const journeyFor = 10 * time.Minute

func (p *Provider) discovered(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.provider == nil {
		found, err := oidc.NewProvider(context.WithoutCancel(ctx), p.Issuer)
		if err != nil {
			return nil, fmt.Errorf("asking %s for its addresses: %w", p.Issuer, err)
		}
		p.provider = found
	}
	return p.provider, nil
}

func (p *Provider) config(found *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{
		ClientID: p.ClientID, ClientSecret: p.ClientSecret, Endpoint: found.Endpoint(), RedirectURL: p.Redirect,
		Scopes: []string{oidc.ScopeOpenID, "email", "profile"},
	}
}

// Depart returns where to send someone to sign in, and what to keep meanwhile.
func (o *Office) Depart(ctx context.Context, p *Provider, seal *Sealer, to string) (address, journey string, err error) {
	found, err := p.discovered(ctx)
	if err != nil {
		return "", "", err
	}
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.Contains(to, "\\") {
		to = "/" // only places of our own
	}
	j := Journey{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), To: to, Expires: o.now().Add(journeyFor)}
	text, err := json.Marshal(j)
	if err != nil {
		return "", "", err
	}
	address = p.config(found).AuthCodeURL(j.State, oidc.Nonce(j.Nonce), oauth2.S256ChallengeOption(j.Verifier))
	return address, base64.RawURLEncoding.EncodeToString(seal.Seal(text, "journey")), nil
}

// ErrJourney is returned for an answer of the provider that belongs to no
// journey of this browser.
var ErrJourney = errors.New("this sign-in was not begun in this browser, or took too long; begin again")

// Arrive opens a session for whom the provider sent back. An account is found
// by what the provider knows it as; the first time, by its verified e-mail
// address. Nobody gets an account by signing in.
func (o *Office) Arrive(ctx context.Context, p *Provider, seal *Sealer, journey, state, code, agent string) (secret, to string, err error) {
	var j Journey
	sealed, err := base64.RawURLEncoding.DecodeString(journey)
	if err != nil {
		return "", "", ErrJourney
	}
	text, err := seal.Open(sealed, "journey")
	if err != nil || json.Unmarshal(text, &j) != nil || j.State != state || state == "" || o.now().After(j.Expires) {
		return "", "", ErrJourney
	}
	found, err := p.discovered(ctx)
	if err != nil {
		return "", "", err
	}
	tokens, err := p.config(found).Exchange(ctx, code, oauth2.VerifierOption(j.Verifier))
	if err != nil {
		return "", "", fmt.Errorf("%w (%s would not take its own answer back)", ErrJourney, p.Name)
	}
	raw, _ := tokens.Extra("id_token").(string)
	token, err := found.Verifier(&oidc.Config{ClientID: p.ClientID}).Verify(ctx, raw)
	if err != nil || token.Nonce != j.Nonce {
		return "", "", fmt.Errorf("%w (the identity is not %s's for this sign-in)", ErrJourney, p.Name)
	}
	var claims struct {
		Email    string `json:"email"`
		Verified bool   `json:"email_verified"`
	}
	if err := token.Claims(&claims); err != nil {
		return "", "", fmt.Errorf("reading who it is: %w", err)
	}
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		account, err := tx.AccountOfSubject(token.Issuer, token.Subject)
		if errors.Is(err, store.ErrNotFound) {
			if !claims.Verified {
				return &Refused{Field: "email", Text: p.Name + " does not say that your e-mail address is verified, so no account can be found by it"}
			}
			if account, err = tx.AccountOfEmail(claims.Email); errors.Is(err, store.ErrNotFound) || err == nil && account.Subject != nil {
				return &Refused{Field: "email", Text: fmt.Sprintf("there is no account for %s; ask an administrator, or an owner of an estate, to add it", claims.Email)}
			} else if err != nil {
				return err
			}
			account.Issuer, account.Subject = token.Issuer, &token.Subject
			if err := tx.SaveAccount(&account); err != nil {
				return err
			}
			if err := Record(WithActor(ctx, as(ctx, account)), tx, o.now(), Act{Action: "account.subject", Object: account.Email, After: token.Issuer}); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
		if account.ClosedAt != nil {
			return &Refused{Field: "email", Text: "this account is closed"}
		}
		secret, err = o.open(ctx, tx, account, agent)
		return err
	})
	return secret, j.To, err
}
