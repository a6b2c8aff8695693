package identity

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"sync/atomic"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
	"golang.org/x/sync/singleflight"

	"wideknot/internal/server/store"
)

// A Provider signs people in by OpenID Connect (authorization code with PKCE).
// Its issuer is asked for its addresses when it is first needed.
type Provider struct {
	Issuer, ClientID, ClientSecret string
	Name                           string // how its button is called
	Redirect                       string // our address that it sends people back to

	asking   singleflight.Group
	provider atomic.Pointer[oidc.Provider]
}

// providerFor is how long the provider has for an answer.
const providerFor = 5 * time.Second

// client asks the provider: with a time-out, and without more than an answer.
var client = &http.Client{Timeout: providerFor, Transport: limited{http.DefaultTransport}}

type limited struct{ http.RoundTripper }

func (l limited) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := l.RoundTripper.RoundTrip(r)
	if err == nil {
		answer.Body = http.MaxBytesReader(nil, answer.Body, 1<<20)
	}
	return answer, err
}

// A Journey is what must be kept, sealed, while someone is at the provider.
type Journey struct {
	State, Nonce, Verifier, To string
	Expires                    time.Time
}

const journeyFor = 10 * time.Minute

// discovered returns the provider's addresses, asked for once for all that wait.
func (p *Provider) discovered(ctx context.Context) (*oidc.Provider, error) {
	if known := p.provider.Load(); known != nil {
		return known, nil
	}
	asked := p.asking.DoChan("", func() (any, error) {
		found, err := oidc.NewProvider(oidc.ClientContext(context.Background(), client), p.Issuer)
		if err != nil {
			return nil, fmt.Errorf("asking %s for its addresses: %w", p.Issuer, err)
		}
		p.provider.Store(found)
		return found, nil
	})
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case answer := <-asked:
		if answer.Err != nil {
			return nil, answer.Err
		}
		return answer.Val.(*oidc.Provider), nil
	}
}

func (p *Provider) config(found *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{
		ClientID: p.ClientID, ClientSecret: p.ClientSecret, Endpoint: found.Endpoint(), RedirectURL: p.Redirect,
		Scopes: []string{oidc.ScopeOpenID, "email", "profile"},
	}
}

// ownPlace is a path of ours: nothing that a browser would take for another host,
// or leave out on the way there.
var ownPlace = regexp.MustCompile(`^/[A-Za-z0-9_.~%/-]*(\?[A-Za-z0-9_.~%=&+,:@/-]*)?$`)

// Depart returns where to send someone to sign in, and what to keep meanwhile.
func (o *Office) Depart(ctx context.Context, p *Provider, seal *Sealer, to string) (address, journey string, err error) {
	found, err := p.discovered(ctx)
	if err != nil {
		return "", "", err
	}
	if !ownPlace.MatchString(to) || strings.HasPrefix(to, "//") || strings.HasPrefix(to, "/api/") {
		to = "/"
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
// Long for all that an answer of a provider is refused for.
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
	ctx = oidc.ClientContext(ctx, client)
	tokens, err := p.config(found).Exchange(ctx, code, oauth2.VerifierOption(j.Verifier))
	if err != nil {
		return "", "", fmt.Errorf("%w (%s would not take its own answer back)", ErrJourney, p.Name)
	}
	raw, _ := tokens.Extra("id_token").(string)
	token, err := found.Verifier(&oidc.Config{ClientID: p.ClientID}).Verify(ctx, raw)
	if err != nil || token.Nonce != j.Nonce {
		return "", "", fmt.Errorf("%w (the identity is not %s's for this sign-in)", ErrJourney, p.Name)
	}
	if token.Subject == "" || len(token.Subject) > 255 || len(token.Issuer) > 255 {
		return "", "", &Refused{Field: "email", Text: p.Name + " does not say who you are", Code: "refused"}
	}
	email, err := verifiedEmail(token)
	if err != nil {
		return "", "", &Refused{Field: "email", Text: p.Name + " " + err.Error(), Code: "unverified"}
	}
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		account, err := tx.AccountOfSubject(token.Issuer, token.Subject)
		if errors.Is(err, store.ErrNotFound) {
			if email == "" {
				return &Refused{Field: "email", Text: p.Name + " does not say that your e-mail address is verified, so no account can be found by it", Code: "unverified"}
			}
			if account, err = tx.AccountOfEmail(email); errors.Is(err, store.ErrNotFound) || err == nil && account.Subject != nil {
				return &Refused{Field: "email", Text: fmt.Sprintf("there is no account for %s; ask an administrator, or an owner of an estate, to add it", shorten(email, 200)), Code: "unknown"}
			} else if err != nil {
				return err
			}
			if account, err = tx.Account(account.ID, true); err != nil {
				return err
			}
			// From now on the provider says who this is; whatever got in before does no
			// longer, for it may have been somebody else's.
			account.Issuer, account.Subject, account.Password = token.Issuer, &token.Subject, ""
			if err := errors.Join(tx.SaveAccount(&account), o.endAll(tx, account.ID)); err != nil {
				return err
			}
			if err := o.recordAccount(WithActor(ctx, as(ctx, account)), tx, account, Act{Action: "account.subject", After: token.Issuer}); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
		if account.ClosedAt != nil {
			return &Refused{Field: "email", Text: "this account is closed", Code: "closed"}
		}
		secret, err = o.open(ctx, tx, account, agent)
		return err
	})
	return secret, j.To, err
}

// verifiedEmail reads the e-mail address of an identity; it is empty when there is
// none that was verified. What has another form than OpenID Connect gives it
// (section 5.1) is refused, never guessed.
func verifiedEmail(token *oidc.IDToken) (string, error) {
	var claims map[string]any
	if err := token.Claims(&claims); err != nil {
		return "", errors.New("says who you are in a form that is not readable")
	}
	email, isText := claims["email"].(string)
	if claims["email"] != nil && !isText {
		return "", errors.New("gives your e-mail address as something that is no text")
	}
	verified, isBool := claims["email_verified"].(bool)
	if claims["email_verified"] != nil && !isBool {
		return "", errors.New("says as something other than true or false whether your e-mail address is verified")
	}
	if !verified {
		return "", nil
	}
	return normalEmail(email), nil
}
