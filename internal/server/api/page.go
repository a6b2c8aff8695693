package api

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/server/desk"
)

// Page asks for a part of a list.
type Page struct {
	Limit  int    `query:"limit" minimum:"1" maximum:"10000" doc:"how many at most; all when it is not given"`
	Cursor string `query:"cursor" maxLength:"200" doc:"where to go on, as the Link of the part before says"`
}

// cut takes a part out of a list whose items have names of their own, and returns
// the cursor of the next part, empty for none. What was taken out of the list
// meanwhile does not repeat or hide others.
func cut[T any](p Page, list []T, name func(T) string) ([]T, string, error) {
	if p.Cursor != "" {
		last, err := base64.RawURLEncoding.DecodeString(p.Cursor)
		at := slices.IndexFunc(list, func(item T) bool { return name(item) == string(last) })
		if err != nil || at < 0 {
			return nil, "", huma.Error400BadRequest("the list does not go on there any more; begin it again")
		}
		list = list[at+1:]
	}
	if p.Limit == 0 || len(list) <= p.Limit {
		return list, "", nil
	}
	return list[:p.Limit], base64.RawURLEncoding.EncodeToString([]byte(name(list[p.Limit-1]))), nil
}

// next is the Link header of a list that goes on.
func next(ctx context.Context, cursor string) string {
	if cursor == "" {
		return ""
	}
	c := accessOf(ctx).c
	query := url.Values{}
	for name, value := range c.RequestCtx().QueryArgs().All() {
		query.Add(string(name), string(value))
	}
	query.Set("cursor", cursor)
	return fmt.Sprintf(`<%s?%s>; rel="next"`, strings.Clone(c.Path()), query.Encode())
}

// listed answers with a part of a list of a state.
func listed[T any](ctx context.Context, v *desk.View, p Page, list []T, name func(T) string) (*answer[[]T], error) {
	list, cursor, err := cut(p, list, name)
	if err != nil {
		return nil, err
	}
	out := tagged(v, list)
	out.Link = next(ctx, cursor)
	return out, nil
}

// A linked is a part of a list that belongs to no state.
type linked[T any] struct {
	Link string `header:"Link" doc:"where the list goes on (RFC 8288), if it does"`
	Body []T
}

func linkedTo[T any](ctx context.Context, p Page, list []T, name func(T) string) (*linked[T], error) {
	list, cursor, err := cut(p, list, name)
	return &linked[T]{next(ctx, cursor), list}, err
}
