package identity

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wideknot/internal/server/store"
)

// What was tried against accounts, and must not work.

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}

// account makes an account with a password.
func (o *Office) account(email string, administrator bool) store.Account {
	ctx := context.Background()
	account, link, err := o.AddAccount(ctx, email, "", administrator)
	if err != nil {
		panic(err)
	}
	return must(o.UseLink(ctx, link, account.Email, "", password))
}

func TestAddressesThatLookAlikeAreNotTheSame(t *testing.T) {
	o, c, _ := office(t)
	o.account("olive@test.example", false)
	for _, other := range []string{"ólive@test.example", "olivé@test.example", "olive@tést.example", "olive@test.example\u200b", "оlive@test.example"} {
		if _, err := o.SignIn(from("192.0.2.1"), other, password, ""); !errors.Is(err, ErrSignIn) {
			t.Errorf("%q signed in as olive: %v", other, err)
		}
		c.pass(2 * time.Hour)
	}
	for _, same := range []string{"OLIVE@Test.Example", " olive@test.example\t"} {
		if _, err := o.SignIn(from("192.0.2.1"), same, password, ""); err != nil {
			t.Errorf("%q: %v", same, err)
		}
	}
	o.account("ólive@test.example", false) // somebody else
	if _, _, err := o.AddAccount(context.Background(), "o\u0301live@test.example", "", false); !errors.Is(err, ErrTaken) {
		t.Errorf("the same letters, composed otherwise: %v", err)
	}
	for _, bad := range []string{"a@b\u202e.example", "a\n@b.example", "Ann <a@b.example>", "a b@c.example"} {
		if _, _, err := o.AddAccount(context.Background(), bad, "", false); err == nil {
			t.Errorf("%q was taken for an address", bad)
		}
	}
}

// A journey to a stand-in provider and back.
type journeys struct {
	t    *testing.T
	o    *Office
	p    *Provider
	far  *standIn
	seal *Sealer
}

func newJourneys(t *testing.T, o *Office) *journeys {
	far := newStandIn(t)
	return &journeys{t, o, &Provider{Issuer: far.URL, ClientID: "wideknot", Name: "Stand-in", Redirect: "http://127.0.0.1:1/api/provider/arrive"}, far,
		must(NewSealer(filepath.Join(t.TempDir(), "master.key")))}
}

func (j *journeys) make(to string, claims map[string]any) (secret, went string, err error) {
	ctx := from("192.0.2.1")
	address, journey, err := j.o.Depart(ctx, j.p, j.seal, to)
	if err != nil {
		return "", "", err
	}
	u := must(url.Parse(address))
	j.far.challenge, j.far.nonce, j.far.claims = u.Query().Get("code_challenge"), u.Query().Get("nonce"), claims
	return j.o.Arrive(ctx, j.p, j.seal, journey, u.Query().Get("state"), "good", "")
}

func TestAProviderIsBelievedToTheLetterOnly(t *testing.T) {
	o, c, _ := office(t)
	c.at = time.Now()
	o.account("olive@test.example", false)
	j := newJourneys(t, o)
	for name, claims := range map[string]map[string]any{
		"an address with an accent": {"sub": "x", "email": "ólive@test.example"},
		"no subject":                {"sub": "", "email": "olive@test.example"},
		"verified, as a text":       {"sub": "x", "email": "olive@test.example", "email_verified": "true"},
		"verified, as a number":     {"sub": "x", "email": "olive@test.example", "email_verified": 1},
		"a list of addresses":       {"sub": "x", "email": []string{"olive@test.example"}},
		"an object":                 {"sub": "x", "email": map[string]any{"a": 1}},
		"a subject without end":     {"sub": strings.Repeat("x", 5000), "email": "olive@test.example"},
	} {
		_, _, err := j.make("/", claims)
		var refused *Refused
		if !errors.As(err, &refused) && !errors.Is(err, ErrJourney) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, to := range []string{"/\t/evil.example", "/\n/evil.example", "//evil.example", "/\\evil.example", "https://evil.example", "javascript:alert(1)", "/api/session", "/a\x00b", "/é", "evil"} {
		if _, went, err := j.make(to, map[string]any{"sub": "u1"}); err != nil || went != "/" {
			t.Errorf("sent on from %q to %q, %v", to, went, err)
		}
	}
	if _, went, err := j.make("/e/vale/winter/shape/ops?region=north&pair=a,b", map[string]any{"sub": "u1"}); err != nil || went != "/e/vale/winter/shape/ops?region=north&pair=a,b" {
		t.Errorf("a place of ours: %q, %v", went, err)
	}
}

// Whoever knew the password before the provider vouched for its owner is out.
func TestFirstBindingEndsWhateverGotInBefore(t *testing.T) {
	o, c, _ := office(t)
	c.at = time.Now()
	olive := o.account("olive@test.example", false)
	ctx := from("192.0.2.7")
	squatter := must(o.SignIn(ctx, olive.Email, password, ""))
	who, _, err := o.BySession(ctx, squatter)
	if err != nil {
		t.Fatal(err)
	}
	_, token, err := o.AddToken(WithActor(ctx, who), "old", Owner, "", c.at.Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	link := must(o.NewLink(ctx, olive.ID))
	j := newJourneys(t, o)
	fresh, _, err := j.make("/", map[string]any{"email": "Olive@test.example"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := o.BySession(ctx, squatter); !errors.Is(err, ErrNoAccess) {
		t.Errorf("a session of before: %v", err)
	}
	if _, err := o.ByToken(ctx, token); !errors.Is(err, ErrNoAccess) {
		t.Errorf("a token of before: %v", err)
	}
	if _, err := o.LinkFor(ctx, link); !errors.Is(err, ErrNoLink) {
		t.Errorf("a link of before: %v", err)
	}
	if _, err := o.SignIn(ctx, olive.Email, password, ""); !errors.Is(err, ErrSignIn) {
		t.Errorf("the password of before: %v", err)
	}
	// With no password, one is set right after signing in, or by a link.
	who, _, err = o.BySession(ctx, fresh)
	if err != nil {
		t.Fatal(err)
	}
	c.pass(11 * time.Minute)
	var refused *Refused
	if err := o.SetPassword(WithActor(ctx, who), "", "another long one"); !errors.As(err, &refused) || !strings.Contains(err.Error(), "sign in again") {
		t.Errorf("a first password from an old session: %v", err)
	}
	again, _, err := j.make("/", nil)
	if err != nil {
		t.Fatal(err)
	}
	if who, _, err = o.BySession(ctx, again); err != nil {
		t.Fatal(err)
	}
	if err := o.SetPassword(WithActor(ctx, who), "", "another long one"); err != nil {
		t.Errorf("a first password after signing in: %v", err)
	}
}

func TestANewPasswordEndsTokensAndSessions(t *testing.T) {
	o, c, admin := office(t)
	olive := o.account("olive@test.example", false)
	ctx := from("192.0.2.7")
	state := func() (session, other, token, link string, who Actor) {
		session, other = must(o.SignIn(ctx, olive.Email, password, "")), must(o.SignIn(ctx, olive.Email, password, ""))
		who, _, _ = o.BySession(ctx, session)
		_, token, err := o.AddToken(WithActor(ctx, who), "t", Reader, "", c.at.Add(time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		return session, other, token, must(o.NewLink(ctx, olive.ID)), who
	}
	gone := func(when string, secrets map[string]string) {
		t.Helper()
		for what, secret := range secrets {
			var err error
			switch what {
			case "token":
				_, err = o.ByToken(ctx, secret)
			case "link":
				_, err = o.LinkFor(ctx, secret)
			default:
				_, _, err = o.BySession(ctx, secret)
			}
			if !errors.Is(err, ErrNoAccess) && !errors.Is(err, ErrNoLink) {
				t.Errorf("%s, the %s is still good: %v", when, what, err)
			}
		}
	}
	session, other, token, link, who := state()
	if err := o.SetPassword(WithActor(ctx, who), password, "another long one"); err != nil {
		t.Fatal(err)
	}
	gone("after a change", map[string]string{"other session": other, "token": token, "link": link})
	if _, _, err := o.BySession(ctx, session); err != nil {
		t.Errorf("the session that changed it: %v", err)
	}
	if err := o.SetPassword(WithActor(ctx, who), "another long one", password); err != nil {
		t.Fatal(err)
	}
	session, other, token, link, _ = state()
	if _, err := o.UseLink(ctx, link, olive.Email, "", password); err != nil {
		t.Fatal(err)
	}
	gone("after a reset", map[string]string{"session": session, "other session": other, "token": token, "link": link})
	session, other, token, link, _ = state()
	admins := WithActor(ctx, Actor{Account: admin.ID, Administrator: true})
	for _, closed := range []bool{true, false} {
		if _, err := o.SetAccount(admins, olive.ID, closed, false); err != nil {
			t.Fatal(err)
		}
	}
	gone("reopened", map[string]string{"session": session, "other session": other, "token": token, "link": link})
}

// Many guesses at once are no more than one after the other.
func TestGuessesAreCountedBeforeTheyAreLookedAt(t *testing.T) {
	o, _, _ := office(t)
	o.account("olive@test.example", false)
	var looked, held atomic.Int32
	var all sync.WaitGroup
	for i := range 120 {
		all.Add(1)
		go func() {
			defer all.Done()
			spelled := []string{"olive@test.example", "OLIVE@test.example", " Olive@Test.Example"}[i%3]
			_, err := o.SignIn(from("192.0.2.1"), spelled, fmt.Sprint("a wrong guess ", i), "")
			var fast *TooFast
			switch {
			case errors.Is(err, ErrSignIn):
				looked.Add(1)
			case errors.As(err, &fast):
				held.Add(1)
			default:
				t.Error(err)
			}
		}()
	}
	all.Wait()
	if looked.Load() > 5 || held.Load() != 120-looked.Load() {
		t.Errorf("%d guesses were looked at, %d held", looked.Load(), held.Load())
	}
}

// A clock that runs a day ahead and is then set right locks nobody out.
func TestAClockSetBackLocksNobodyOut(t *testing.T) {
	o, c, _ := office(t)
	o.account("olive@test.example", false)
	c.pass(24 * time.Hour)
	for range 40 {
		if _, err := o.SignIn(from("192.0.2.1"), "olive@test.example", "wrong", ""); err == nil {
			t.Fatal("a wrong password was taken")
		}
	}
	c.pass(-24 * time.Hour)
	if _, err := o.SignIn(from("192.0.2.1"), "olive@test.example", password, ""); err != nil {
		t.Error(err)
	}
}

// A provider that hangs holds nobody up for longer than its time.
func TestAHangingProviderHoldsNobodyUp(t *testing.T) {
	o, _, _ := office(t)
	hang := make(chan struct{})
	far := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hang }))
	defer far.Close()
	defer close(hang)
	p := &Provider{Issuer: far.URL, ClientID: "x", Name: "Hanging"}
	seal := must(NewSealer(filepath.Join(t.TempDir(), "master.key")))
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	var all sync.WaitGroup
	began := time.Now()
	for range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			if _, _, err := o.Depart(ctx, p, seal, "/"); !errors.Is(err, context.DeadlineExceeded) {
				t.Errorf("%v", err)
			}
		}()
	}
	all.Wait()
	if took := time.Since(began); took > 3*time.Second {
		t.Errorf("eight that gave up after 0.3 s waited for each other: %s", took)
	}
}

// Two that take each other's role at once leave one that has it.
func TestSomebodyAlwaysStays(t *testing.T) {
	o, _, admin := office(t)
	ctx := context.Background()
	second := o.account("second@test.example", true)
	estate := &store.Estate{Key: "vale", CreatedAt: time.Now()}
	if err := o.store.InTransaction(ctx, func(tx *store.Tx) error { return tx.AddEstate(estate) }); err != nil {
		t.Fatal(err)
	}
	both := func(first, second func() error) {
		t.Helper()
		var all sync.WaitGroup
		for _, do := range []func() error{first, second} {
			all.Add(1)
			go func() {
				defer all.Done()
				if err := do(); err != nil && !errors.Is(err, ErrLast) {
					t.Error(err)
				}
			}()
		}
		all.Wait()
	}
	administrators := func() (n int) {
		for _, a := range must(o.Accounts(ctx)) {
			if a.Administrator && a.ClosedAt == nil {
				n++
			}
		}
		return n
	}
	owners := func() (n int) {
		for _, m := range must(o.Members(ctx, estate.ID)) {
			if m.Role == string(Owner) {
				n++
			}
		}
		return n
	}
	for round := range 20 {
		for _, a := range []store.Account{admin, second} {
			if _, err := o.SetAccount(ctx, a.ID, false, true); err != nil {
				t.Fatal(err)
			}
			if _, err := o.SetMember(ctx, estate.ID, a.Email, Owner); err != nil {
				t.Fatal(err)
			}
		}
		both(func() error { _, err := o.SetAccount(ctx, admin.ID, round%2 == 0, false); return err },
			func() error { _, err := o.SetAccount(ctx, second.ID, round%2 == 0, false); return err })
		if n := administrators(); n != 1 {
			t.Fatalf("round %d: %d administrators are left", round, n)
		}
		for _, a := range []store.Account{admin, second} {
			_, _ = o.SetAccount(ctx, a.ID, false, true)
		}
		both(func() error { _, err := o.SetMember(ctx, estate.ID, admin.Email, Reader); return err },
			func() error { return o.DeleteMember(ctx, estate.ID, second.ID) })
		if n := owners(); n != 1 {
			t.Fatalf("round %d: %d owners are left", round, n)
		}
	}
}

// Who makes a link for somebody's account is seen by the owners of its estates.
func TestOwnersSeeWhatIsDoneToTheirMembersAccounts(t *testing.T) {
	o, _, admin := office(t)
	ctx := WithActor(context.Background(), Actor{Account: admin.ID, Name: admin.Email, Administrator: true})
	olive := o.account("olive@test.example", false)
	estate := &store.Estate{Key: "vale", CreatedAt: time.Now()}
	if err := o.store.InTransaction(ctx, func(tx *store.Tx) error { return tx.AddEstate(estate) }); err != nil {
		t.Fatal(err)
	}
	if _, err := o.SetMember(ctx, estate.ID, olive.Email, Owner); err != nil {
		t.Fatal(err)
	}
	link := must(o.NewLink(ctx, olive.ID))
	must(o.UseLink(ctx, link, olive.Email, "", password))
	var seen []string
	for _, r := range must(o.Records(ctx, store.RecordFilter{Estate: estate.ID, Limit: 20})) {
		seen = append(seen, r.Action+" "+r.Object+" by "+r.Who)
	}
	for _, want := range []string{"account.link olive@test.example by ada@test.example", "account.password olive@test.example by olive@test.example"} {
		if !strings.Contains(strings.Join(seen, "\n"), want) {
			t.Errorf("the estate's audit has no %q: %q", want, seen)
		}
	}
}
