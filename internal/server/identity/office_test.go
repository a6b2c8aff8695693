package identity

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"wideknot/internal/server/store"
)

// A clock that tests turn.
type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

func (c *clock) pass(d time.Duration) { c.at = c.at.Add(d) }

const password = "a rather long one"

// office opens an office with an administrator on it.
func office(t *testing.T) (*Office, *clock, store.Account) {
	t.Helper()
	db, _ := store.Testing(t)
	o := NewOffice(db)
	c := &clock{time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)}
	o.SetClock(c.now)
	link, err := o.Begin(context.Background())
	if err != nil || link == "" {
		t.Fatalf("%q, %v", link, err)
	}
	admin, err := o.UseLink(context.Background(), link, "ada@test.example", "Ada", password)
	if err != nil {
		t.Fatal(err)
	}
	return o, c, admin
}

func from(address string) context.Context {
	return WithActor(context.Background(), Actor{Name: "stranger", Origin: address})
}

func TestLinksWorkOnceAndEnd(t *testing.T) {
	db, _ := store.Testing(t)
	o := NewOffice(db)
	c := &clock{time.Now()}
	o.SetClock(c.now)
	ctx := context.Background()
	former, _ := o.Begin(ctx)
	link, err := o.Begin(ctx)
	if err != nil || former == link {
		t.Fatalf("%q %q %v", former, link, err)
	}
	if _, err := o.UseLink(ctx, former, "a@test.example", "", password); !errors.Is(err, ErrNoLink) {
		t.Errorf("a link that a newer one replaced: %v", err)
	}
	for bad, want := range map[string]string{"short": "at least 12", "aaaaaaaaaaaaaaaa": "repeats", "A@test.example": "must not be the e-mail address"} {
		var refused *Refused
		if _, err := o.UseLink(ctx, link, "a@test.example", "", bad); !errors.As(err, &refused) || refused.Field != "password" || !strings.Contains(err.Error(), want) {
			t.Errorf("password %q: %v", bad, err)
		}
	}
	if _, err := o.UseLink(ctx, link, "no address", "", password); err == nil {
		t.Error("something that is no e-mail address was taken")
	}
	if _, err := o.UseLink(ctx, link, "a@test.example", "A", password); err != nil {
		t.Error(err)
	}
	if _, err := o.UseLink(ctx, link, "a@test.example", "A", password); !errors.Is(err, ErrNoLink) {
		t.Errorf("a link used twice: %v", err)
	}
	if again, err := o.Begin(ctx); err != nil || again != "" {
		t.Errorf("a link for a server that has an administrator: %q, %v", again, err)
	}
	_, late, err := o.AddAccount(ctx, "b@test.example", "", false)
	if err != nil {
		t.Fatal(err)
	}
	c.pass(73 * time.Hour)
	if _, err := o.LinkFor(ctx, late); !errors.Is(err, ErrNoLink) {
		t.Errorf("an expired link: %v", err)
	}
	if _, _, err := o.AddAccount(ctx, "B@Test.example", "", false); !errors.Is(err, ErrTaken) {
		t.Errorf("the same address in other letters: %v", err)
	}
}

func TestSessionsRotateAndEnd(t *testing.T) {
	o, c, admin := office(t)
	ctx := from("192.0.2.1")
	open := func() string {
		t.Helper()
		secret, err := o.Open(ctx, admin, "a browser")
		if err != nil {
			t.Fatal(err)
		}
		return secret
	}
	good := func(secret string) (fresh string, ok bool) {
		t.Helper()
		who, fresh, err := o.BySession(ctx, secret)
		if err != nil && !errors.Is(err, ErrNoAccess) {
			t.Fatal(err)
		}
		if err == nil && who.Account != admin.ID {
			t.Errorf("%+v", who)
		}
		return fresh, err == nil
	}
	secret := open()
	if fresh, ok := good(secret); !ok || fresh != "" {
		t.Errorf("at once: %q %v", fresh, ok)
	}
	c.pass(61 * time.Minute)
	fresh, ok := good(secret)
	if !ok || fresh == "" {
		t.Fatal("an hour later it is not replaced")
	}
	c.pass(30 * time.Second)
	if again, ok := good(secret); !ok || again != "" {
		t.Error("a request on its way with the former secret is refused")
	}
	c.pass(time.Minute)
	if _, ok := good(secret); ok {
		t.Error("the former secret is good for ever")
	}
	if _, ok := good(fresh); ok {
		t.Error("a session whose former secret turned up again goes on")
	}

	idle := open()
	c.pass(13 * time.Hour)
	if _, ok := good(idle); ok {
		t.Error("a session that nobody used for 13 hours is good")
	}
	long := open()
	for range 14 * 3 {
		c.pass(8 * time.Hour)
		if fresh, ok := good(long); ok {
			long = fresh
		}
	}
	c.pass(time.Minute)
	if _, ok := good(long); ok {
		t.Error("a session outlives 14 days")
	}

	a, b := open(), open()
	who, _, _ := o.BySession(ctx, a)
	if err := o.SetPassword(WithActor(ctx, who), "not it", "another long one"); err == nil {
		t.Error("the password was changed without the present one")
	}
	if err := o.SetPassword(WithActor(ctx, who), password, "another long one"); err != nil {
		t.Fatal(err)
	}
	if _, ok := good(a); !ok {
		t.Error("who changed the password is signed out")
	}
	if _, ok := good(b); ok {
		t.Error("the others are not")
	}
	if err := o.SignOut(WithActor(ctx, who), 0); err != nil {
		t.Fatal(err)
	}
	if _, ok := good(a); ok {
		t.Error("signed in after signing out everywhere")
	}
}

// Guessing gets slower and slower, but whoever knows the password gets in.
func TestGuessingIsSlowedDown(t *testing.T) {
	o, c, _ := office(t)
	attempt := func(address, guess string) error {
		_, err := o.SignIn(from(address), "ada@test.example", guess, "")
		return err
	}
	var fast *TooFast
	for i := range 5 {
		if err := attempt("192.0.2.66", "guess"); !errors.Is(err, ErrSignIn) {
			t.Fatalf("guess %d: %v", i, err)
		}
	}
	waits := []time.Duration{}
	for range 8 {
		if err := attempt("192.0.2.66", password); !errors.As(err, &fast) {
			t.Fatalf("the right password from where guesses came: %v", err)
		}
		waits = append(waits, fast.Wait)
		c.pass(fast.Wait)
		if err := attempt("192.0.2.66", "guess"); !errors.Is(err, ErrSignIn) {
			t.Fatalf("after the pause: %v", err)
		}
	}
	for i := 1; i < len(waits); i++ {
		if waits[i] <= waits[i-1] {
			t.Errorf("pauses %v do not grow", waits)
		}
	}
	if err := attempt("192.0.2.7", password); err != nil {
		t.Errorf("the owner, from elsewhere: %v", err)
	}
	c.pass(16 * time.Minute)
	if err := attempt("192.0.2.66", password); err != nil {
		t.Errorf("from where guesses came, after the longest pause: %v", err)
	}
	// Many places guess at one account: its holder waits half a minute at most.
	for i := range 130 {
		address := "2001:db8:0:" + strings.Repeat("f", 1+i%4) + ":" + string(rune('a'+i%6)) + "::1"
		_ = attempt(address, "guess") // refused as wrong, or as too fast
	}
	if err := attempt("192.0.2.8", password); err != nil {
		if !errors.As(err, &fast) || fast.Wait > 31*time.Second {
			t.Errorf("locked out: %v", err)
		}
		c.pass(31 * time.Second)
		if err := attempt("192.0.2.8", password); err != nil {
			t.Errorf("locked out for good: %v", err)
		}
	}
	if networkOf("2001:db8::1") != networkOf("2001:db8::ffff") || networkOf("2001:db8:0:1::1") == networkOf("2001:db8:0:2::1") || networkOf("::ffff:192.0.2.1") != "192.0.2.1" {
		t.Error("networks are not told apart")
	}
}

func TestUnknownAndClosedAccountsAreRefusedAlike(t *testing.T) {
	o, _, admin := office(t)
	ctx := from("192.0.2.1")
	if _, err := o.SignIn(ctx, "nobody@test.example", password, ""); !errors.Is(err, ErrSignIn) {
		t.Error(err)
	}
	other, link, err := o.AddAccount(ctx, "bo@test.example", "Bo", true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.SignIn(ctx, "bo@test.example", "", ""); !errors.Is(err, ErrSignIn) {
		t.Errorf("an account without password: %v", err)
	}
	if _, err := o.SetAccount(ctx, admin.ID, true, true); !errors.Is(err, ErrLast) {
		t.Errorf("the last administrator who can sign in was closed: %v", err)
	}
	if _, err := o.UseLink(ctx, link, "", "", password); err != nil {
		t.Fatal(err)
	}
	secret, err := o.SignIn(ctx, "BO@test.example", password, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.SetAccount(ctx, other.ID, true, false); err != nil {
		t.Fatal(err)
	}
	if _, err := o.SignIn(ctx, "bo@test.example", password, ""); !errors.Is(err, ErrSignIn) {
		t.Errorf("a closed account: %v", err)
	}
	if _, _, err := o.BySession(ctx, secret); !errors.Is(err, ErrNoAccess) {
		t.Errorf("a session of a closed account: %v", err)
	}
	if _, err := o.NewLink(ctx, other.ID); err == nil {
		t.Error("a link for a closed account was made")
	}
}

func TestPasswordHashes(t *testing.T) {
	hash := hashPassword(password)
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$") || strings.Contains(hash, password) {
		t.Error(hash)
	}
	if hash == hashPassword(password) {
		t.Error("two hashes of one password are the same")
	}
	for _, c := range []struct {
		hash, password string
		want           bool
	}{
		{hash, password, true}, {hash, password + " ", false}, {hash, "", false}, {"", "", false}, {"", password, false},
		{strings.Replace(hash, "argon2id", "argon2i", 1), password, false}, {hash[:len(hash)-4], password, false}, {"$argon2id$v=19$m=19456,t=2,p=1$$", "", false},
	} {
		if got := passwordFits(c.hash, c.password); got != c.want {
			t.Errorf("%q fits %.50q: %v", c.password, c.hash, got)
		}
	}
}

func TestSomebodyStaysOwner(t *testing.T) {
	o, _, admin := office(t)
	ctx := WithActor(context.Background(), Actor{Account: admin.ID, Name: admin.Email})
	row := &store.Estate{Key: "e", Name: "E", CreatedAt: o.now()}
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		if err := tx.AddEstate(row); err != nil {
			return err
		}
		return tx.SaveMember(&store.Member{EstateID: row.ID, AccountID: admin.ID, Role: string(Owner)})
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.SetMember(ctx, row.ID, admin.Email, Reader); !errors.Is(err, ErrLast) {
		t.Errorf("the last owner became a reader: %v", err)
	}
	if err := o.DeleteMember(ctx, row.ID, admin.ID); !errors.Is(err, ErrLast) {
		t.Errorf("the last owner left: %v", err)
	}
	link, err := o.SetMember(ctx, row.ID, "new@test.example", Owner)
	if err != nil || link == "" {
		t.Fatalf("%q, %v", link, err)
	}
	if link, err := o.SetMember(ctx, row.ID, "new@test.example", Owner); err != nil || link != "" {
		t.Errorf("%q, %v", link, err)
	}
	if err := o.DeleteMember(ctx, row.ID, admin.ID); err != nil {
		t.Error(err)
	}
	if _, _, err := o.RoleIn(ctx, "e"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the estate is still to be seen: %v", err)
	}
	if _, err := o.SetMember(ctx, row.ID, "new@test.example", "king"); err == nil {
		t.Error("a role that there is not was given")
	}
	if !Owner.Includes(Reader) || Reader.Includes(Planner) || Stranger.Includes(Reader) || lesser(Owner, Planner) != Planner {
		t.Error("roles are out of order")
	}
}
