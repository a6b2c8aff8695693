package gateway

import (
	"bytes"
	"fmt"
	"reflect"
	"testing"

	"wideknot/core/route"
)

// Parse reads what Write writes, all of it, and Of makes nothing that Parse refuses.
func TestParseOfWriteIsTheSame(t *testing.T) {
	eachSite(t, 40, func(where string, _ *route.Map, _ int, c *Config) {
		text, err := Write(c)
		if err != nil {
			t.Fatal(where, err)
		}
		again, err := Parse(text)
		if err != nil {
			t.Fatal(where, err)
		}
		if !reflect.DeepEqual(c, again) {
			t.Errorf("%s: %s", where, differing(reflect.ValueOf(*c), reflect.ValueOf(*again), ""))
		}
		if c.Digest() != again.Digest() || len(Difference(c, again)) > 0 {
			t.Errorf("%s: read back it has another digest, or differs", where)
		}
	})
}

// differing names the first place in which two values differ.
func differing(a, b reflect.Value, path string) string {
	switch {
	case reflect.DeepEqual(a.Interface(), b.Interface()):
		return ""
	case a.Kind() == reflect.Struct && a.NumField() > 0 && a.Type().Field(0).IsExported():
		for i := range a.NumField() {
			if said := differing(a.Field(i), b.Field(i), path+"."+a.Type().Field(i).Name); said != "" {
				return said
			}
		}
	case a.Kind() == reflect.Slice && a.Len() == b.Len() && a.Len() > 0:
		for i := range a.Len() {
			if said := differing(a.Index(i), b.Index(i), fmt.Sprintf("%s[%d]", path, i)); said != "" {
				return said
			}
		}
	}
	return fmt.Sprintf("%s: %#v, %#v", path, a.Interface(), b.Interface())
}

// A document of more than 64 MB is not read.
func TestDocumentsAreBounded(t *testing.T) {
	text, err := Write(full())
	if err != nil {
		t.Fatal(err)
	}
	at := append(text, bytes.Repeat([]byte(" "), MaxDocument-len(text))...)
	if _, err := Parse(at); err != nil {
		t.Error(err)
	}
	if _, err := Parse(append(at, ' ')); err == nil || err.Error() != "the configuration cannot be used: it is larger than 64 MB" {
		t.Errorf("one byte more: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	text, err := Write(full())
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	f.Add([]byte(`{"wideknot-gateway:gateway":{"site":"a"}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Write(c)
		if err != nil {
			t.Fatal(err)
		}
		back, err := Parse(again)
		if err != nil {
			t.Fatalf("%v\n%s", err, again)
		}
		if third, _ := Write(back); !bytes.Equal(again, third) || c.Digest() != back.Digest() {
			t.Errorf("written again it is another:\n%s\n%s", again, third)
		}
	})
}
