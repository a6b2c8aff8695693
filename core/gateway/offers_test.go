package gateway

import (
	"encoding/json"
	"strings"
	"testing"
)

const someOffers = `{"wideknot-gateway:offers":{"at":"2026-11-30T12:00:00Z","public-key":"hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=",
	"device":[{"name":"eth0","mtu":1500,"address":["192.0.2.7/24"],"next-hop":["192.0.2.1"],"seen-outside":"192.0.2.7:5000"}],
	"behind":[{"prefix":"10.9.0.0/16","via":"10.1.0.9","device":"lan0"}]}}`

func TestParseOffers(t *testing.T) {
	o, err := ParseOffers([]byte(someOffers))
	if err != nil || o.Devices[0].Outside.Port() != 5000 || o.Behind[0].Device != "lan0" {
		t.Fatalf("%v: %+v", err, o)
	}
	for change, says := range map[string]string{
		`"eth0"`:                 `"eth0; reboot"`,
		`"192.0.2.7/24"`:         `"192.0.2.7/99"`,
		`"10.9.0.0/16"`:          `"10.9.0.1/16"`,
		`"mtu":1500`:             `"mtu":-5`,
		`"2026-11-30T12:00:00Z"`: `"yesterday"`,
		`"hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo="`: `"short"`,
		`"via":"10.1.0.9"`: `"via":"fe80::1%eth0"`,
		`"at"`:             `"when"`,
	} {
		if _, err := ParseOffers([]byte(strings.Replace(someOffers, change, says, 1))); err == nil {
			t.Errorf("%s is taken", says)
		}
	}
	many := Offers{}
	for range MaxBehind + 1 {
		many.Behind = append(many.Behind, o.Behind[0])
	}
	text, err := json.Marshal(map[string]any{"wideknot-gateway:offers": many})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := ParseOffers(text); err == nil {
		t.Error("more than there may be are taken")
	}
}

func FuzzOffers(f *testing.F) {
	f.Add([]byte(someOffers))
	f.Fuzz(func(t *testing.T, text []byte) {
		o, err := ParseOffers(text)
		if err != nil {
			return
		}
		again, err := json.Marshal(map[string]any{"wideknot-gateway:offers": o})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ParseOffers(again); err != nil {
			t.Errorf("%s is written as %s: %v", text, again, err)
		}
	})
}
