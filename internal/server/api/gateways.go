package api

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"wideknot/core/estate"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/enrol"
)

// InGateway names the gateway of a site.
type InGateway struct {
	InEstate
	Site string `path:"site" maxLength:"40"`
}

// GatewayList is the gateways that joined, and the codes by which others may.
type GatewayList struct {
	Taken    bool              `json:"taken" doc:"this server takes gateways"`
	Gateways []desk.GatewayRow `json:"gateways"`
	Codes    []Code            `json:"codes" doc:"that wait to be used"`
}

// Code is a join code that waits; what it is was said once.
type Code struct {
	Site   string    `json:"site"`
	Author string    `json:"author"`
	EndsAt time.Time `json:"ends_at"`
}

// NewCode is a join code, told once.
type NewCode struct {
	Code   string    `json:"code"`
	EndsAt time.Time `json:"ends_at"`
	Lines  []string  `json:"lines" doc:"where the gateway will call"`
}

var errNoGateways = fiber.NewError(http.StatusConflict, "this server takes no gateways: start it with --line-listen and --enrol-listen")

// Long as a list of operations is.
func (s *Server) gateways(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("list-gateways", http.MethodGet, "/api/estates/{estate}/gateways", "List the gateways that joined, with what they reported"),
		func(ctx context.Context, in *InEstate) (*struct{ Body GatewayList }, error) {
			rows, err := d.Gateways(ctx, in.Estate)
			if err != nil {
				return nil, refusal(err)
			}
			out := GatewayList{Taken: s.Enrol != nil, Gateways: rows, Codes: []Code{}}
			codes, err := enrol.Codes(ctx, s.Store, accessOf(ctx).estate.ID)
			for _, c := range codes {
				out.Codes = append(out.Codes, Code{c.Site, c.Author, c.EndsAt})
			}
			return &struct{ Body GatewayList }{out}, refusal(err)
		})
	huma.Register(a, operation("get-gateway", http.MethodGet, "/api/estates/{estate}/gateways/{site}", "Read what a gateway reported last"),
		func(ctx context.Context, in *struct {
			InGateway
			desk.Ends
		}) (*struct{ Body *desk.GatewayNow }, error) {
			now, err := d.GatewayNow(ctx, in.Estate, in.Site, in.Ends)
			return &struct{ Body *desk.GatewayNow }{now}, refusal(err)
		})
	type hours struct {
		Hours int `json:"hours,omitempty" minimum:"1" maximum:"720" doc:"how long it may be used; 24 when it is not given"`
	}
	code := func(ctx context.Context, in InGateway, h hours) (string, time.Time, error) {
		if s.Enrol == nil {
			return "", time.Time{}, errNoGateways
		}
		if err := s.knowsSite(ctx, in); err != nil {
			return "", time.Time{}, err
		}
		lasts := enrol.UsualCode
		if h.Hours > 0 {
			lasts = time.Duration(h.Hours) * time.Hour
		}
		return s.Enrol.Code(ctx, accessOf(ctx).estate, in.Site, lasts)
	}
	huma.Register(a, operation("make-join-code", http.MethodPost, "/api/estates/{estate}/gateways/{site}/code", "Make a join code for a site; one made before ends"),
		func(ctx context.Context, in *struct {
			InGateway
			Body hours
		}) (*struct{ Body NewCode }, error) {
			text, ends, err := code(ctx, in.InGateway, in.Body)
			if err != nil {
				return nil, refusal(err)
			}
			return &struct{ Body NewCode }{NewCode{text, ends, s.Enrol.Lines}}, nil
		})
	huma.Register(a, files(operation("make-cloud-init", http.MethodPost, "/api/estates/{estate}/gateways/{site}/cloud-init", "Make user-data for cloud-init that lets a new machine join"), "text/cloud-config"),
		func(ctx context.Context, in *struct {
			InGateway
			Body hours
		}) (*file, error) {
			text, _, err := code(ctx, in.InGateway, in.Body)
			if err != nil {
				return nil, refusal(err)
			}
			data, err := s.Enrol.CloudInit(in.Estate, in.Site, text)
			return attached("text/cloud-config", in.Site+"-user-data.yaml", data), refusal(err)
		})
	huma.Register(a, operation("withdraw-join-code", http.MethodDelete, "/api/estates/{estate}/gateways/{site}/code", "Take the join codes of a site back"),
		func(ctx context.Context, in *InGateway) (*struct{}, error) {
			if s.Enrol == nil {
				return nil, refusal(errNoGateways)
			}
			return nil, refusal(s.Enrol.Withdraw(ctx, accessOf(ctx).estate, in.Site))
		})
	huma.Register(a, operation("bar-gateway", http.MethodPut, "/api/estates/{estate}/gateways/{site}/barred", "Bar a gateway at once, or let it in again"),
		func(ctx context.Context, in *struct {
			InGateway
			Body struct {
				Barred bool `json:"barred"`
			}
		}) (*struct{}, error) {
			if s.Enrol == nil {
				return nil, refusal(errNoGateways)
			}
			return nil, refusal(s.Enrol.Bar(ctx, accessOf(ctx).estate, in.Site, in.Body.Barred))
		})
	huma.Register(a, operation("bring-gateways", http.MethodPost, "/api/estates/{estate}/gateways-bring", "Bring gateways to a release, all that joined with no sites"),
		func(ctx context.Context, in *struct {
			InEstate
			Body struct {
				Release uint64   `json:"release" minimum:"1"`
				Sites   []string `json:"sites,omitempty" maxItems:"10000"`
			}
		}) (*struct {
			Body struct {
				Gateways int `json:"gateways"`
			}
		}, error) {
			out := &struct {
				Body struct {
					Gateways int `json:"gateways"`
				}
			}{}
			var err error
			out.Body.Gateways, err = d.Bring(ctx, in.Estate, in.Body.Release, in.Body.Sites)
			return out, refusal(err)
		})
	huma.Register(a, operation("put-back-gateway", http.MethodPost, "/api/estates/{estate}/gateways/{site}/put-back", "Overwrite what somebody set by hand at a gateway with what was confirmed"),
		func(ctx context.Context, in *struct {
			InGateway
			Body struct {
				Digest string `json:"digest" minLength:"1" maxLength:"100" doc:"of what is overwritten: what the gateway is said to run"`
			}
		}) (*struct{}, error) {
			return nil, refusal(d.PutBack(ctx, in.Estate, in.Site, in.Body.Digest))
		})
	s.offers(a)
	s.fromGateways(a)
	s.rollouts(a)
}

// NewKeys is a draft with the new keys of gateways in it.
type NewKeys struct {
	EstateHead
	Keys []desk.NewKey `json:"keys"`
}

// DriftTaken is a draft with what somebody set by hand at a gateway in it.
type DriftTaken struct {
	EstateHead
	desk.TakenDrift
}

// offers serves what gateways see of themselves, beside a draft.
func (s *Server) offers(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("list-offers", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/offers", "List what gateways offer, beside what the draft says"),
		func(ctx context.Context, in *struct {
			InDraft
			Site string `query:"site" maxLength:"40" doc:"only those of this site"`
		}) (*struct{ Body []desk.SiteOffers }, error) {
			_, list, err := d.Offers(ctx, in.place(), in.Site)
			return &struct{ Body []desk.SiteOffers }{list}, refusal(err)
		})
	huma.Register(a, operation("take-offers", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/sites/{site}/offers", "Take what the site's gateway offers into the draft, as one edit"),
		func(ctx context.Context, in *struct {
			Editing
			Site string `path:"site" maxLength:"40"`
			Body struct {
				Offers []string `json:"offers" minItems:"1" maxItems:"500"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.TakeOffers(ctx, o, in.Site, in.Body.Offers) })
		})
	huma.Register(a, operation("refuse-offer", http.MethodPut, "/api/estates/{estate}/gateways/{site}/refusals", "Say why an offer is not taken; with no reason it may be after all"),
		func(ctx context.Context, in *struct {
			InGateway
			Body struct {
				Offer  string `json:"offer" minLength:"1" maxLength:"200"`
				Reason string `json:"reason" maxLength:"300"`
			}
		}) (*struct{}, error) {
			return nil, refusal(d.RefuseOffer(ctx, in.Estate, in.Site, in.Body.Offer, in.Body.Reason))
		})
}

// fromGateways serves what gateways are asked for the sake of a draft.
func (s *Server) fromGateways(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("take-drift", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/sites/{site}/drift", "Take what somebody set by hand at the site's gateway into the draft, as one edit"),
		func(ctx context.Context, in *struct {
			Editing
			Site string `path:"site" maxLength:"40"`
		}) (*answer[DriftTaken], error) {
			var drift *desk.TakenDrift
			head, err := edited(ctx, in.Editing, func(o desk.Order) (view *desk.View, err error) {
				view, drift, err = d.TakeDrift(ctx, o, in.Site)
				return view, err
			})
			if err != nil {
				return nil, err
			}
			return &answer[DriftTaken]{ETag: head.ETag, Body: DriftTaken{head.Body, *drift}}, nil
		})
	huma.Register(a, operation("make-new-keys", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/new-keys", "Let gateways make new keys, and take the public halves into the draft, as one edit"),
		func(ctx context.Context, in *struct {
			Editing
			Body struct {
				Sites []string `json:"sites,omitempty" maxItems:"10000" doc:"all whose gateways are there when none are named"`
			}
		}) (*answer[NewKeys], error) {
			var keys []desk.NewKey
			head, err := edited(ctx, in.Editing, func(o desk.Order) (view *desk.View, err error) {
				view, keys, err = d.NewKeys(ctx, o, in.Body.Sites)
				return view, err
			})
			if err != nil {
				return nil, err
			}
			return &answer[NewKeys]{ETag: head.ETag, Body: NewKeys{head.Body, keys}}, nil
		})
}

// knowsSite refuses codes for what is in no draft and no release: keys would be mistyped.
func (s *Server) knowsSite(ctx context.Context, in InGateway) error {
	drafts, err := s.Desk.Drafts(ctx, in.Estate)
	if err != nil {
		return err
	}
	places := []string{desk.Released}
	for _, draft := range drafts {
		if draft.Discarded == nil {
			places = append(places, draft.Key)
		}
	}
	for _, place := range places {
		view, err := s.Desk.View(ctx, desk.Place{Estate: in.Estate, Draft: place})
		if err != nil {
			return err
		}
		if slices.ContainsFunc(view.Estate.Sites, func(site estate.Site) bool { return site.Key == in.Site }) {
			return nil
		}
	}
	return fiber.NewError(http.StatusNotFound, "there is no site "+in.Site+" in any draft or in the release in force")
}
