package api

import (
	"context"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/rollout"
	"wideknot/internal/server/rollouts"
)

// InRollout names a rollout of an estate.
type InRollout struct {
	InEstate
	Number uint64 `path:"number" minimum:"1"`
}

// WaveOrder is a wave as a person makes it.
type WaveOrder struct {
	Name  string   `json:"name" minLength:"1" maxLength:"60"`
	Sites []string `json:"sites" minItems:"1" maxItems:"10000"`
}

// RolloutOrder says which release is brought to gateways, and how.
type RolloutOrder struct {
	Release uint64      `json:"release" minimum:"1"`
	Waves   []WaveOrder `json:"waves,omitempty" maxItems:"100" doc:"in their order; the usual ones when none are given"`
	rollouts.Settings
	Instead bool `json:"instead,omitempty" doc:"it takes the place of one that waits or stopped"`
}

func (o *RolloutOrder) order() rollouts.Order {
	out := rollouts.Order{Release: o.Release, Settings: o.Settings, Instead: o.Instead}
	for _, w := range o.Waves {
		out.Waves = append(out.Waves, rollout.Wave{Name: w.Name, Sites: w.Sites})
	}
	return out
}

// rollouts serves how releases are brought to gateways.
func (s *Server) rollouts(a huma.API) {
	office := rollouts.New(s.Store, s.Desk)
	if s.Enrol != nil {
		for _, at := range s.Enrol.Lines {
			if a, err := netip.ParseAddrPort(at); err == nil { // what a name stands for is not known here
				office.Servers = append(office.Servers, a.Addr().Unmap())
			}
		}
	}
	huma.Register(a, operation("plan-rollout", http.MethodPost, "/api/estates/{estate}/rollout-plan", "Work out how a release would be brought to gateways, and what would be cut meanwhile"),
		func(ctx context.Context, in *struct {
			InEstate
			Body RolloutOrder
		}) (*struct{ Body rollout.Plan }, error) {
			plan, err := office.Plan(ctx, in.Estate, in.Body.order())
			if err != nil {
				return nil, refusal(err)
			}
			return &struct{ Body rollout.Plan }{plan.Plan}, nil
		})
	huma.Register(a, operation("list-rollouts", http.MethodGet, "/api/estates/{estate}/rollouts", "List the rollouts of an estate, newest first"),
		func(ctx context.Context, in *InEstate) (*struct{ Body []rollouts.Rollout }, error) {
			list, err := office.List(ctx, in.Estate)
			return &struct{ Body []rollouts.Rollout }{list}, refusal(err)
		})
	huma.Register(a, operation("start-rollout", http.MethodPost, "/api/estates/{estate}/rollouts", "Begin to bring a release to gateways"),
		func(ctx context.Context, in *struct {
			InEstate
			Body RolloutOrder
		}) (*struct{ Body rollouts.Rollout }, error) {
			view, err := office.Start(ctx, in.Estate, in.Body.order())
			return &struct{ Body rollouts.Rollout }{view}, refusal(err)
		})
	huma.Register(a, operation("get-rollout", http.MethodGet, "/api/estates/{estate}/rollouts/{number}", "Read a rollout: its plan, its gateways, what was proven and what happened"),
		func(ctx context.Context, in *InRollout) (*struct{ Body *rollouts.RolloutDetail }, error) {
			detail, err := office.Get(ctx, in.Estate, in.Number)
			return &struct{ Body *rollouts.RolloutDetail }{detail}, refusal(err)
		})
	huma.Register(a, operation("decide-rollout", http.MethodPost, "/api/estates/{estate}/rollouts/{number}/decision", "Let a rollout go on, with or without what is not as expected, wait, or take itself back"),
		func(ctx context.Context, in *struct {
			InRollout
			Body struct {
				Do      rollouts.Do `json:"do" enum:"go-on,accept,wait,back"`
				Without bool        `json:"without_away,omitempty" doc:"of going on: what gateways that are away may still use is taken away"`
			}
		}) (*struct{ Body rollouts.Rollout }, error) {
			view, err := office.Decide(ctx, in.Estate, in.Number, in.Body.Do, in.Body.Without)
			return &struct{ Body rollouts.Rollout }{view}, refusal(err)
		})
}
