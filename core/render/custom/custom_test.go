package custom

import (
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func site(t testing.TB, key string) Site {
	t.Helper()
	e, err := examples.Estate("three-sites")
	if err != nil {
		t.Fatal(err)
	}
	p := tunnel.Derive(e)
	return DataOf(route.Build(p), p.SiteIndex(key))
}

func TestTemplates(t *testing.T) {
	for _, c := range []struct{ text, want, err string }{
		{"{{.Key}} of {{.Estate}}", "withybrook of Three sites", ""},
		{"{{range .Tunnels}}{{.Interface}} {{address .Address4}}/{{length .Address4}} {{.MTU}}\n{{end}}", "millgate-1 100.96.0.3/31 1440\nmillgate-2 100.96.0.5/31 1368\n", ""},
		{"{{range .Routes}}{{if eq .Kind \"overlay\"}}{{.Prefix}}{{range .Hops}} {{.Interface}}={{.Metric}}{{end}};{{end}}{{end}}", "10.40.1.0/24 millgate-1=100 millgate-2=110;10.40.2.0/24 millgate-1=100 millgate-2=110;", ""},
		{"{{range .Tunnels}}{{join \",\" .Allowed}} {{end}}", "100.96.0.2/32,10.40.1.0/24,10.40.2.0/24,100.96.0.0/24 100.96.0.4/32,10.40.1.0/24,10.40.2.0/24,100.96.0.0/24 ", ""},
		{"a\n{{.Nope}}", "", "line 2, column 2: executing"},
		{"a\n{{if}}", "", "line 2"},
		{"\n\n{{range .Tunnels}}{{.Nope}}{{end}}", "", "line 3, column 20"},
		{"{{range 9999999999}}{{end}}", "", "a loop runs over a list"},
		{"{{$n := 9999999999}}{{range $n}}{{end}}", "", "a loop runs over a list"},
		{"{{define \"a\"}}{{template \"a\"}}{{end}}{{template \"a\"}}", "", "may not define others"},
		{"{{define \"a\"}}{{end}}", "", "may not define others"},
		{"{{template \"template\"}}", "", "may not call others"},
		{"{{range .Routes}}{{range .Hops}}{{range $.Routes}}{{range .Hops}}{{end}}{{end}}{{end}}{{end}}", "", "nested 3 deep"},
	} {
		parsed, err := Parse(c.text)
		var got []byte
		if err == nil {
			got, err = parsed.Render(site(t, "withybrook"))
		}
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%q: error %v, want %q", c.text, err, c.err)
			}
		} else if err != nil || string(got) != c.want {
			t.Errorf("%q: %q, %v, want %q", c.text, got, err, c.want)
		}
	}
}

func FuzzTemplate(f *testing.F) {
	f.Add("{{range .Tunnels}}{{.Interface}}{{end}}")
	f.Add("{{with .Gateway}}{{.Target}}{{else}}x{{end}}")
	f.Add("{{range $i, $t := .Tunnels}}{{printf \"%d\" $i}}{{end}}")
	data := site(f, "withybrook")
	f.Fuzz(func(t *testing.T, text string) {
		parsed, err := Parse(text)
		if err == nil {
			_, err = parsed.Render(data)
		}
		if problems, ok := err.(estate.Problems); err != nil && (!ok || problems[0].Line < 1) {
			t.Errorf("%q: %v has no line", text, err)
		}
	})
}
