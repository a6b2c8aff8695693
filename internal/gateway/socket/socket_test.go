package socket

import (
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// One serves, a second is refused, and what a killed one left behind is no hindrance.
func TestOneServesAtATime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "run", "one.sock")
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, nil, 0o600); err != nil { // nobody listens there
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		ended <- Serve(ctx, path, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "here") }))
	}()
	var answer *http.Response
	var err error
	for range 200 {
		if answer, err = Client(path).Get("http://any/"); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(answer.Body)
	if _ = answer.Body.Close(); err != nil || string(text) != "here" {
		t.Errorf("%q, %v", text, err)
	}
	if about, err := os.Stat(path); err != nil || about.Mode().Perm() != 0o600 {
		t.Errorf("others may open it: %v, %v", about.Mode(), err)
	}
	if err := Serve(ctx, path, http.NotFoundHandler()); err == nil || !strings.Contains(err.Error(), "another program") {
		t.Errorf("a second one: %v", err)
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
}
