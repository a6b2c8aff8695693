package gateway

import "testing"

// What gateways answer is read, or refused; it never makes anything that does not fit.
func FuzzEchoed(f *testing.F) {
	for _, text := range []string{
		`{"wideknot-gateway:output":{"answer":[{"from":"10.0.0.1","to":"10.1.0.1","answered":1420,"round-trip":1200,"hop":["100.96.0.1","0.0.0.0"]}]}}`,
		`{"wideknot-gateway:output":{}}`, `{"wideknot-gateway:output":{"answer":[{"from":"fe80::1%lo"}]}}`, `{`,
	} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		list, err := ParseEchoed(text)
		if err != nil {
			return
		}
		for i := range list {
			if e := &list[i]; len(list) > MaxEchoes || len(e.Hops) > MaxEchoHops || e.Answered < 0 || e.Answered > MaxEchoSize || len(e.Words) > maxEchoWords || e.From.Zone() != "" {
				t.Errorf("%+v", e)
			}
		}
	})
}
