package identity

import "context"

// An Actor is who asks for something: an account by a session or a token, or,
// without account, the program itself.
type Actor struct {
	Account       uint64
	Name          string // the account's e-mail address
	Administrator bool
	Session       uint64 // 0 for a token
	Token         uint64 // 0 for a session
	TokenRole     Role   // what the token is limited to
	TokenEstate   uint64 // 0 for every estate of the account
	Origin        string // network address, and the token's name
	Request       string // ID of the request
}

type actorKey struct{}

// WithActor returns a context that says who asks.
func WithActor(ctx context.Context, a Actor) context.Context {
	return context.WithValue(ctx, actorKey{}, a)
}

// ActorOf returns who asks; the program itself when the context does not say.
func ActorOf(ctx context.Context) Actor {
	if a, ok := ctx.Value(actorKey{}).(Actor); ok {
		return a
	}
	return Actor{Name: "wideknot", Origin: "this machine"}
}
