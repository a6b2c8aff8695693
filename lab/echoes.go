package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
)

// An asking is one gateway asking another for an echo, and what is predicted of it.
type asking struct {
	from, to int
	echo     gateway.Echo
	want     rollout.Echo
}

// echoes lets agents ask each other from LAN to LAN, and compares whether an answer comes, how
// large it may be and by whom it goes with what is predicted.
func (r *round) echoes() error {
	list, owners, err := r.askings()
	if err != nil {
		return err
	}
	wrong := map[int]string{}
	for range 4 { // a busy machine may take a tunnel for dead for a while
		wrong = map[int]string{}
		for from, k := range r.w.keepers {
			var some []gateway.Echo
			for _, a := range list {
				if a.from == from {
					some = append(some, a.echo)
				}
			}
			answers, err := k.echo(some)
			if err != nil {
				return fmt.Errorf("echoes of %s: %w", r.m.Plan.Site(from).Key, err)
			}
			for i := range list {
				a := &list[i]
				at := slices.IndexFunc(answers, func(e gateway.Echoed) bool { return e.From == a.echo.From && e.To == a.echo.To })
				if a.from != from {
					continue
				}
				if at < 0 {
					return fmt.Errorf("%s does not say how its echo to %v ended", r.m.Plan.Site(from).Key, a.echo.To)
				}
				if hubs := named(answers[at].Hops, owners); answers[at].Answered != a.want.MTU || a.want.Arrives && !slices.Equal(hubs, a.want.Hubs) {
					wrong[i] = fmt.Sprintf("%s asks %s at %v for an echo: predicted %+v, seen %+v by %v", r.m.Plan.Site(from).Key, r.m.Plan.Site(a.to).Key, a.echo.To, a.want, answers[at], hubs)
				}
			}
		}
		if len(wrong) == 0 {
			break
		}
		time.Sleep(time.Second)
	}
	r.counts.Echoes += len(list)
	for _, words := range wrong {
		r.wrong = append(r.wrong, words)
	}
	return nil
}

// askings lists what gateways ask, and whose each address is.
func (r *round) askings() (out []asking, owners map[netip.Addr]string, err error) {
	var gateways []rollout.Gateway
	var offers []*gateway.Offers
	for i := range r.m.Plan.Estate.Sites {
		gateways = append(gateways, rollout.Gateway{Key: r.m.Plan.Site(i).Key, Old: gateway.Of(r.m, i), Fixed: true})
		o := &gateway.Offers{}
		if k := r.w.keepers[i]; k != nil {
			if o, err = k.offers(); err != nil {
				return nil, nil, err
			}
		}
		offers = append(offers, o)
	}
	network, state := rollout.NewNetwork(gateways), make([]rollout.Stage, len(gateways))
	owners = network.Addresses(state)
	known := map[netip.Addr]int{}
	var own, target []netip.Addr
	for i, g := range gateways {
		for _, d := range offers[i].Devices {
			for _, a := range d.Addresses {
				owners[a.Addr()] = g.Key
			}
		}
		own = append(own, offers[i].Own(network.Shares(state, g.Key)))
		target = append(target, network.Target(state, g.Key, own[i]))
		known[target[i]]++
	}
	for a, from := range gateways {
		for b, to := range gateways {
			within := func(p netip.Prefix) bool { return p.Contains(target[b]) }
			if a == b || !own[a].IsValid() || !own[b].IsValid() || own[a].Is4() != target[b].Is4() || known[target[b]] > 1 || network.Steered(state, from.Key) ||
				slices.ContainsFunc(network.Shares(state, from.Key), within) {
				continue
			}
			want := network.Echo(state, from.Key, to.Key, own[a], own[b])
			out = append(out, asking{a, b, gateway.Echo{From: own[a], To: target[b], Size: want.MTU, Hops: want.Arrives}, want})
		}
	}
	return out, owners, nil
}

func named(hops []netip.Addr, owners map[netip.Addr]string) (out []string) {
	for _, a := range hops {
		out = append(out, owners[a])
	}
	return out
}

// echo lets an agent ask for echoes, as a server does over the line.
func (k *keeper) echo(list []gateway.Echo) ([]gateway.Echoed, error) {
	body, err := json.Marshal(map[string]any{"wideknot-gateway:input": map[string]any{"ask": list}})
	if err != nil {
		return nil, err
	}
	client := *k.client
	client.Timeout = time.Minute
	answer, err := client.Post("http://gateway/restconf/operations/wideknot-gateway:echo", "application/yang-data+json", bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = errors.New(string(text))
	}
	if err != nil {
		return nil, err
	}
	return gateway.ParseEchoed(text)
}

// offers asks an agent what it sees around it.
func (k *keeper) offers() (*gateway.Offers, error) {
	answer, err := k.client.Get("http://gateway/restconf/ds/ietf-datastores:operational/wideknot-gateway:offers")
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, err
	}
	return gateway.ParseOffers(text)
}
