package agent

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Figures of a gateway, for those who keep series elsewhere.
var (
	tunnelUp       = figure("tunnel_up", "Whether traffic goes by the tunnel: 1 or 0.", "interface")
	tunnelSeconds  = figure("tunnel_handshake_age_seconds", "Time since the last handshake.", "interface")
	tunnelIn       = figure("tunnel_received_bytes_total", "Octets that came by the tunnel.", "interface")
	tunnelOut      = figure("tunnel_sent_bytes_total", "Octets that left by the tunnel.", "interface")
	tunnelProbes   = figure("tunnel_probes_sent_total", "Probes that were judged.", "interface")
	tunnelAnswers  = figure("tunnel_probes_answered_total", "Probes that were answered.", "interface")
	tunnelLatency  = figure("tunnel_latency_seconds", "Mean round trip of the last probes.", "interface")
	tunnelJitter   = figure("tunnel_jitter_seconds", "Mean difference between one round trip and the next.", "interface")
	tunnelLoss     = figure("tunnel_loss_ratio", "Part of the last probes that was lost, by direction.", "interface", "direction")
	linkNextHop    = figure("link_next_hop_up", "Whether the next hop of the WAN link answers: 1 or 0.", "link")
	linkNames      = figure("link_name_service_up", "Whether a name service answers by the WAN link: 1 or 0.", "link")
	linkMTU        = figure("link_path_mtu_bytes", "The largest packet that passed outside the tunnels; 0 where nothing is known.", "link")
	tunnelBeyond   = figure("tunnel_beyond_limits", "Whether the tunnel is beyond the limits of its profile: 1 or 0.", "interface")
	tunnelKept     = figure("tunnel_kept_off_packets_total", "Packets of zones that the tunnel is not for.", "interface")
	wayGroup       = figure("way_group", "Place of the group that the way uses; 0 when none lives.", "way")
	rulePackets    = figure("policy_packets_total", "Packets that a rule of a policy decided.", "overlay", "rule")
	gatewayRelease = figure("release", "Release that the gateway runs, 0 where it was told none.")
)

func figure(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("wideknot_gateway_"+name, help, labels, nil)
}

// Describe is for prometheus: the figures are not known beforehand.
func (a *Agent) Describe(chan<- *prometheus.Desc) {}

// Collect is for prometheus.
func (a *Agent) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	s, err := a.State(ctx)
	if err != nil {
		return
	}
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
	}
	bit := map[bool]float64{true: 1}
	gauge(gatewayRelease, float64(s.Release))
	for i := range s.Tunnels {
		t := &s.Tunnels[i]
		gauge(tunnelUp, bit[t.Up], t.Interface)
		gauge(tunnelSeconds, float64(t.HandshakeS), t.Interface)
		counter(tunnelIn, float64(t.BytesIn), t.Interface)
		counter(tunnelOut, float64(t.BytesOut), t.Interface)
		counter(tunnelProbes, float64(t.Sent), t.Interface)
		counter(tunnelAnswers, float64(t.Answered), t.Interface)
		gauge(tunnelLatency, float64(t.LatencyUs)/1e6, t.Interface)
		gauge(tunnelJitter, float64(t.JitterUs)/1e6, t.Interface)
		gauge(tunnelBeyond, bit[t.Beyond], t.Interface)
		counter(tunnelKept, float64(t.KeptOff), t.Interface)
		gauge(tunnelLoss, float64(t.LossOutPPM)/1e6, t.Interface, "out")
		gauge(tunnelLoss, float64(t.LossBackPPM)/1e6, t.Interface, "back")
	}
	for i := range s.Links {
		gauge(linkNextHop, bit[s.Links[i].NextHopUp], s.Links[i].Link)
		gauge(linkNames, bit[s.Links[i].NamesUp], s.Links[i].Link)
		gauge(linkMTU, float64(s.Links[i].PathMTU), s.Links[i].Link)
	}
	for _, w := range s.Ways {
		gauge(wayGroup, float64(w.Group), number(w.ID))
	}
	for _, r := range s.Rules {
		counter(rulePackets, float64(r.Packets), r.Overlay, number(r.Rule))
	}
}
