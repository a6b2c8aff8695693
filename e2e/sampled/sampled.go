// Package sampled starts a server on an empty folder, with a synthetic estate
// released in it and a draft branched, for measuring.
package sampled

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"syscall"
	"time"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

// A Server is the program in a process of its own.
type Server struct {
	URL   string
	Token string // of the administrator, who may do everything
	Sites []estate.Site

	command *exec.Cmd
	folder  string
	session string // cookie of the administrator, for what no token may do
}

// The administrator, for browsers.
const (
	Email    = "load@test.example"
	Password = "quite a long password"
)

// Draft is the draft's place in the API, Page that of its pages.
const (
	Draft = "/api/estates/load/drafts/work"
	Page  = "/e/load/d/work"
)

// Start starts the server and fills it.
func Start(binary string, sites, links int, more ...string) (*Server, error) {
	folder, err := os.MkdirTemp("", "wk-load-")
	if err != nil {
		return nil, err
	}
	l := &Server{folder: folder}
	if err := l.run(binary, append([]string{"--var", folder}, more...)); err != nil {
		return nil, err
	}
	return l, l.fill(sites, links)
}

// Beside starts another server on the same database. It has the administrator's session, and
// is stopped before the first.
func (l *Server) Beside(binary string, more ...string) (*Server, error) {
	password, err := os.ReadFile(l.folder + "/mariadb/password")
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "wk-load-")
	if err != nil {
		return nil, err
	}
	other := &Server{folder: folder, Token: l.Token, Sites: l.Sites}
	return other, other.run(binary, append([]string{"--var", folder, "--dsn", l.dsn(password), "--master-key-file", l.folder + "/master.key"}, more...))
}

func (l *Server) dsn(password []byte) string {
	return fmt.Sprintf("wideknot:%s@unix(%s/mariadb/mariadb.sock)/wideknot", password, l.folder)
}

// DSN is the address of its database.
func (l *Server) DSN() (string, error) {
	password, err := os.ReadFile(l.folder + "/mariadb/password")
	return l.dsn(password) + "?parseTime=true", err
}

// Kill ends the server as a power cut would.
func (l *Server) Kill() {
	_ = l.command.Process.Kill()
	_ = l.command.Wait()
}

// Pid is the number of its process.
func (l *Server) Pid() int { return l.command.Process.Pid }

// run starts the program and waits until it says where it is.
func (l *Server) run(binary string, flags []string) error {
	l.command = exec.Command(binary, append([]string{"serve", "--listen", "127.0.0.1:0", "--rate", "0"}, flags...)...)
	l.command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	l.command.Stderr = os.Stderr
	out, err := l.command.StdoutPipe()
	if err != nil {
		return err
	}
	if err := l.command.Start(); err != nil {
		return err
	}
	link := ""
	for scanner := bufio.NewScanner(out); link == "" && scanner.Scan(); {
		if m := regexp.MustCompile(`Wide Knot is at (\S+)`).FindStringSubmatch(scanner.Text()); m != nil {
			if l.URL = m[1]; l.Token != "" { // the administrator is known already
				break
			}
		}
		if m := regexp.MustCompile(`/welcome#(\w+)`).FindStringSubmatch(scanner.Text()); m != nil {
			link = m[1]
		}
	}
	go io.Copy(io.Discard, out)
	if l.Token != "" {
		return nil
	}
	return l.enter(link)
}

// Stop ends the server and removes all it kept.
func (l *Server) Stop() {
	_ = l.command.Process.Signal(syscall.SIGINT)
	_ = l.command.Wait()
	_ = os.RemoveAll(l.folder)
}

// enter sets up the administrator and makes a token of it.
func (l *Server) enter(link string) error {
	var err error
	if l.session, err = l.as("", "POST", "/api/links/use", map[string]string{"link": link, "email": Email, "name": "Load", "password": Password}, nil); err != nil {
		return err
	}
	if _, err := l.as(l.session, "POST", "/api/estates", map[string]string{"name": "Load"}, nil); err != nil {
		return err
	}
	var made struct{ Secret string }
	_, err = l.as(l.session, "POST", "/api/me/tokens", map[string]any{"name": "load", "role": "owner", "expires": time.Now().Add(time.Hour)}, &made)
	l.Token = made.Secret
	return err
}

// as sends what a page would, with a session's cookie, and returns the cookie that
// the answer leaves the browser with.
func (l *Server) as(cookie, method, path string, body, out any) (string, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return "", err
	}
	r, err := http.NewRequest(method, l.URL+path, bytes.NewReader(text))
	if err != nil {
		return "", err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Origin", l.URL)
	r.Header.Set("Cookie", cookie)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		return "", fmt.Errorf("%s %s: %s", method, path, answer.Status)
	}
	for _, c := range answer.Cookies() {
		cookie = c.Name + "=" + c.Value
	}
	if out == nil {
		return cookie, nil
	}
	return cookie, json.NewDecoder(answer.Body).Decode(out)
}

// Reader makes an account that reads the estate, and returns its session's cookie.
func (l *Server) Reader(n int) (cookie string, err error) {
	email := fmt.Sprintf("reader%d@test.example", n)
	var made struct{ Link string }
	if _, err := l.as(l.session, "PUT", "/api/estates/load/people", map[string]string{"email": email, "role": "reader"}, &made); err != nil {
		return "", err
	}
	link := regexp.MustCompile(`#(\w+)`).FindStringSubmatch(made.Link)
	if link == nil {
		return "", fmt.Errorf("no link for %s", email)
	}
	return l.as("", "POST", "/api/links/use", map[string]string{"link": link[1], "name": "Reader", "password": Password}, nil)
}

// Memory returns how many bytes of memory the program holds (RSS).
func (l *Server) Memory() (int64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", l.command.Process.Pid))
	if err != nil {
		return 0, err
	}
	var size, resident int64
	if _, err := fmt.Sscan(string(text), &size, &resident); err != nil {
		return 0, err
	}
	return resident * int64(os.Getpagesize()), nil
}

func (l *Server) fill(sites, links int) error {
	e, err := sample.Estate(sample.Options{Sites: sites, Links: links, Seed: 1})
	if err != nil {
		return err
	}
	text, err := estate.WriteJSON(e)
	if err != nil {
		return err
	}
	start := time.Now()
	first := "/api/estates/load/drafts/first"
	for _, step := range []struct {
		path string
		body any
	}{
		{first + "/import", map[string]any{"document": string(text)}},
		{first + "/release", map[string]any{"message": "the sample", "reason": "a sample has findings"}},
		{"/api/estates/load/drafts", map[string]any{"name": "work"}},
	} {
		if _, err := l.Ask("POST", step.path, step.body, nil); err != nil {
			return err
		}
	}
	fmt.Printf("imported, released and branched %d sites (%.1f MB) in %.1f s\n", len(e.Sites), float64(len(text))/1e6, time.Since(start).Seconds())
	_, err = l.Ask("GET", Draft+"/sites", nil, &l.Sites)
	return err
}

// Ask sends a request and returns the revision of the answer.
func (l *Server) Ask(method, path string, body, out any) (string, error) {
	var in io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return "", err
		}
		in = bytes.NewReader(text)
	}
	r, err := http.NewRequest(method, l.URL+path, in)
	if err != nil {
		return "", err
	}
	r.Header.Set("Authorization", "Bearer "+l.Token)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		text, _ := io.ReadAll(answer.Body)
		return "", fmt.Errorf("%s %s: %s %.300s", method, path, answer.Status, text)
	}
	if out != nil {
		return answer.Header.Get("ETag"), json.NewDecoder(answer.Body).Decode(out)
	}
	_, err = io.Copy(io.Discard, answer.Body)
	return answer.Header.Get("ETag"), err
}
