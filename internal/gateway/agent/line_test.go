package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
)

// An outsider is somebody with curl who has read the RFCs and the YANG module.
type outsider struct {
	t      *testing.T
	socket string
	folder string
}

// ask sends a request; the answer is its status, headers and body.
func (o *outsider) ask(method, path, body string, headers ...string) (status string, header, text string) {
	o.t.Helper()
	head := filepath.Join(o.folder, "head")
	args := []string{"-sS", "-m", "5", "--unix-socket", o.socket, "-X", method, "-D", head}
	for _, h := range headers {
		args = append(args, "-H", h)
	}
	if body != "" {
		args = append(args, "-H", "Content-Type: application/yang-data+json", "--data-binary", "@-")
	}
	if method == "HEAD" {
		args = append(args, "-I")
	}
	command := exec.Command("curl", append(args, "http://gateway"+path)...)
	command.Stdin = strings.NewReader(body)
	out, err := command.Output()
	if err != nil && len(out) == 0 {
		o.t.Fatalf("curl %s %s: %v", method, path, err)
	}
	raw, err := os.ReadFile(head)
	if err != nil {
		o.t.Fatal(err)
	}
	_, after, _ := strings.Cut(string(raw), " ")
	return after[:3], string(raw), string(out)
}

// want is ask where the status is known.
func (o *outsider) want(status, method, path, body string, headers ...string) (header, text string) {
	o.t.Helper()
	got, header, text := o.ask(method, path, body, headers...)
	if got != status {
		o.t.Fatalf("%s %s: %s, not %s\n%s", method, path, got, status, text)
	}
	return header, text
}

// refused asks for what is refused with a tag of RFC 8040, 7.
func (o *outsider) refused(status string, tag line.ErrorTag, method, path, body string, headers ...string) {
	o.t.Helper()
	_, text := o.want(status, method, path, body, headers...)
	if !strings.Contains(text, `"error-tag":"`+string(tag)+`"`) {
		o.t.Errorf("%s %s: %s", method, path, text)
	}
}

// lint lets yanglint judge a document: without its envelope, which Debian's modules lack.
func (o *outsider) lint(kind, text string, modules ...string) {
	o.t.Helper()
	file := filepath.Join(o.folder, "data.json")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		o.t.Fatal(err)
	}
	args := []string{"-p", "../../line/yang", "-p", "/usr/share/yuma/nmda-modules/ietf", "-p", "/usr/share/yuma/modules/ietf", "-F", "ietf-netconf:candidate,confirmed-commit", "-t", kind}
	args = append(args, modules...)
	out, err := exec.Command("yanglint", append(args, "../../line/yang/wideknot-gateway.yang", file)...).CombinedOutput()
	if err != nil || bytes.Contains(out, []byte("err :")) {
		o.t.Errorf("yanglint, %s: %v\n%s\n%.2000s", kind, err, out, text)
	}
}

// inside takes the content out of an envelope.
func inside(t *testing.T, text, envelope string) string {
	t.Helper()
	var d map[string]json.RawMessage
	if err := json.Unmarshal([]byte(text), &d); err != nil || d[envelope] == nil {
		t.Fatalf("no %s: %v, %.300s", envelope, err, text)
	}
	return string(d[envelope])
}

// served runs an agent on a tray, and serves its socket.
func served(t *testing.T) (*outsider, *running, *tray) {
	t.Helper()
	for _, tool := range []string{"curl", "yanglint"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Fatalf("%s is missing; make test-tools installs it", tool)
		}
	}
	p := newTray(newTestNet())
	r := run(t, p, t.TempDir(), keysIn(t))
	o := &outsider{t: t, socket: filepath.Join(t.TempDir(), "s"), folder: t.TempDir()}
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- r.Serve(ctx, o.socket) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	eventually(t, "the socket is there", func() bool { _, err := os.Stat(o.socket); return err == nil })
	return o, r, p
}

const (
	candidatePath = "/restconf/ds/ietf-datastores:candidate"
	runningPath   = "/restconf/ds/ietf-datastores:running"
	statePath     = "/restconf/ds/ietf-datastores:operational/wideknot-gateway:state"
	commitPath    = "/restconf/operations/ietf-netconf:commit"
	cancelPath    = "/restconf/operations/ietf-netconf:cancel-commit"
	discardPath   = "/restconf/operations/ietf-netconf:discard-changes"
)

// Somebody who knows the RFCs alone finds the gateway's root, applies a configuration on
// trial, confirms one and goes back from another; and is told what is wrong.
// Long as a conversation is.
func TestCurlDrivesAGateway(t *testing.T) {
	o, r, _ := served(t)
	first, second := twoReleases()
	for i := range first.Tunnels { // nobody is at the far ends
		first.Tunnels[i].Probe, second.Tunnels[i].Probe = nil, nil
	}
	in := func(c *gateway.Config) string {
		text, err := gateway.Write(c)
		if err != nil {
			t.Fatal(err)
		}
		return `{"ietf-restconf:data":` + string(text) + `}`
	}
	state := func() (s gateway.State) {
		t.Helper()
		_, text := o.want("200", "GET", statePath, "")
		o.lint("get", text)
		parsed, err := gateway.ParseState([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return *parsed
	}
	// The way in.
	if _, text := o.want("200", "GET", "/.well-known/host-meta", ""); !strings.Contains(text, "<Link rel=\"restconf\" href=\"/restconf\"/>") {
		t.Errorf("host-meta: %s", text)
	}
	o.want("200", "GET", "/restconf", "")
	if _, text := o.want("200", "GET", "/restconf/yang-library-version", ""); text != "{\"ietf-restconf:yang-library-version\":\"2019-01-04\"}\n" {
		t.Error(text)
	}
	for _, name := range []string{"commit", "cancel-commit", "discard-changes"} {
		if _, text := o.want("200", "GET", "/restconf/operations", ""); !strings.Contains(text, `"ietf-netconf:`+name+`":[null]`) {
			t.Errorf("operations: %s", text)
		}
	}
	_, text := o.want("200", "GET", "/restconf/data/ietf-yang-library:yang-library", "")
	var library struct {
		Library line.Library `json:"ietf-yang-library:yang-library"`
	}
	if err := json.Unmarshal([]byte(text), &library); err != nil || !library.Library.Implements("wideknot-gateway", line.GatewayRevision) || library.Library.Implements("wideknot-gateway", "2020-01-01") {
		t.Errorf("the library: %v, %s", err, text)
	}
	// Nothing is there yet.
	header, text := o.want("200", "GET", runningPath, "")
	if !strings.Contains(header, "Etag: \"none\"") || text != "{\"ietf-restconf:data\":{}}\n" {
		t.Errorf("nothing runs: %s %s", header, text)
	}
	o.refused("404", line.InvalidValue, "GET", runningPath+"/wideknot-gateway:gateway", "")
	o.refused("400", line.InvalidValue, "POST", commitPath, "")
	// On trial, and confirmed.
	o.want("204", "PUT", candidatePath, in(first), `If-Match: "none"`)
	commit := func(c *gateway.Config, token string, seconds, release int) string {
		text := fmt.Sprintf(`{"ietf-netconf:input":{"confirmed":[null],"confirm-timeout":%d,"persist":%q,"wideknot-gateway:candidate":%q,"wideknot-gateway:release":%d}}`, seconds, token, c.Digest(), release)
		o.lint("rpc", `{"ietf-netconf:commit":`+inside(t, text, "ietf-netconf:input")+`}`)
		return text
	}
	confirm := func(token string) string { return fmt.Sprintf(`{"ietf-netconf:input":{"persist-id":%q}}`, token) }
	o.refused("409", line.OperationFailed, "POST", commitPath, commit(second, "r17.3", 60, 17)) // another candidate
	o.want("204", "POST", commitPath, commit(first, "r17.3", 60, 17))
	o.want("204", "POST", commitPath, commit(first, "r17.3", 60, 17)) // an answer was lost
	if s := state(); s.Trial.Token != "r17.3" || s.Trial.Left < 50 || s.Release != 17 || s.Digest != first.Digest() {
		t.Errorf("on trial: %+v", s)
	}
	o.refused("409", line.InUse, "POST", commitPath, commit(first, "other", 60, 17))
	o.refused("400", line.InvalidValue, "POST", commitPath, confirm("other"))
	o.want("204", "POST", commitPath, confirm("r17.3"))
	o.want("204", "POST", commitPath, confirm("r17.3"))
	if s := state(); s.Trial != (gateway.TrialState{LastToken: "r17.3", LastOutcome: Confirmed}) {
		t.Errorf("confirmed: %+v", s.Trial)
	}
	header, text = o.want("200", "GET", runningPath, "")
	if !strings.Contains(header, `Etag: "`+first.Digest()+`"`) {
		t.Errorf("running: %s", header)
	}
	o.lint("config", inside(t, text, "ietf-restconf:data"))
	o.want("200", "HEAD", runningPath, "")
	// Another on trial, cancelled.
	o.refused("412", line.OperationFailed, "PUT", candidatePath, in(second), `If-Match: "0123"`)
	o.want("204", "PUT", candidatePath, in(second), `If-Match: "`+first.Digest()+`"`)
	if _, text := o.want("200", "GET", candidatePath+"/wideknot-gateway:gateway", ""); !strings.Contains(text, `"mtu":1300`) {
		t.Errorf("the candidate: %.300s", text)
	}
	o.want("204", "POST", commitPath, commit(second, "r18.1", 60, 18))
	o.refused("400", line.InvalidValue, "POST", cancelPath, confirm("r17.3"))
	o.want("204", "POST", cancelPath, confirm("r18.1"))
	o.want("204", "POST", cancelPath, confirm("r18.1"))
	if s := state(); s.Digest != first.Digest() || s.Release != 17 || s.Trial.LastOutcome != WentBack {
		t.Errorf("cancelled: %+v", s)
	}
	// Nobody confirms.
	o.want("204", "PUT", candidatePath, in(second))
	o.want("204", "POST", commitPath, commit(second, "r18.2", 1, 18))
	eventually(t, "it goes back by itself", func() bool { return state().Trial.LastToken == "r18.2" })
	if s := state(); s.Digest != first.Digest() || s.Trial.LastOutcome != WentBack {
		t.Errorf("went back: %+v", s)
	}
	// The candidate discarded; committed for good without a trial.
	o.want("204", "PUT", candidatePath, in(second))
	o.want("204", "POST", discardPath, "")
	if header, _ := o.want("200", "GET", candidatePath, ""); !strings.Contains(header, first.Digest()) {
		t.Errorf("discarded: %s", header)
	}
	o.want("204", "PUT", candidatePath+"/wideknot-gateway:gateway", inside(t, in(second), "ietf-restconf:data"))
	o.want("204", "POST", commitPath, "")
	if s := state(); s.Digest != second.Digest() {
		t.Errorf("for good: %+v", s)
	}
	o.wrong(in(first))
	o.stream(r)
}

// wrong asks for what is no resource, no method, no type, no value.
func (o *outsider) wrong(document string) {
	o.t.Helper()
	for path, want := range map[string]string{
		"/restconf/nothing": "404", "/restconf/ds/ietf-datastores:startup": "404", "/restconf/data/none:such": "404", "/restconf/operations/none:such": "405",
		runningPath + "?depth=1": "400", "/restconf/data?content=some": "400", "/restconf/data?content=config": "200", "/restconf/data?content=nonconfig": "200", "/restconf/data": "200",
	} {
		o.want(want, "GET", path, "")
	}
	o.refused("404", line.InvalidValue, "POST", "/restconf/operations/none:such", "")
	o.refused("405", line.NotSupported, "PUT", runningPath, document)
	o.refused("405", line.NotSupported, "DELETE", candidatePath, "")
	if header, _ := o.want("204", "OPTIONS", candidatePath, ""); !strings.Contains(header, "Allow: GET, HEAD, OPTIONS, PUT") {
		o.t.Errorf("OPTIONS: %s", header)
	}
	o.refused("415", line.InvalidValue, "PUT", candidatePath, "x", "Content-Type: text/plain", "Content-Type;")
	o.refused("406", line.InvalidValue, "GET", runningPath, "", "Accept: application/yang-data+xml")
	o.want("200", "GET", runningPath, "", "Accept: application/yang-data+xml, application/*;q=0.5")
	for body, tag := range map[string]line.ErrorTag{
		`{`: line.Malformed, `{}`: line.MissingElement, `{"ietf-restconf:data":{}}`: line.InvalidValue, `{"ietf-restconf:data":{"wideknot-gateway:gateway":{"site":"$(reboot)"}}}`: line.InvalidValue,
		`{"ietf-restconf:data":{},"more":1}`: line.Malformed,
	} {
		o.refused("400", tag, "PUT", candidatePath, body)
	}
	for body, tag := range map[string]line.ErrorTag{
		`{"ietf-netconf:input":{"confirm-timeout":5}}`: line.MissingElement, `{"ietf-netconf:input":{"confirmed":[null],"confirm-timeout":-1}}`: line.InvalidValue,
		`{"ietf-netconf:input":{"confirmed":[null],"persist-id":"x"}}`: line.NotSupported, `{"ietf-netconf:input":{"confirmed":[null],"persist":"a b"}}`: line.InvalidValue,
		`{"ietf-netconf:input":{"sudo":true}}`: line.Malformed, `{"input":{}}`: line.Malformed, `{}`: line.MissingElement,
	} {
		o.refused("400", tag, "POST", commitPath, body)
	}
	o.refused("400", line.MissingElement, "POST", cancelPath, `{"ietf-netconf:input":{}}`)
}

// stream reads events, goes on where it stopped, and is told of what is new.
func (o *outsider) stream(r *running) {
	o.t.Helper()
	read := func(last string, most time.Duration) (ids []string, text string) {
		o.t.Helper()
		ctx, stop := context.WithTimeout(o.t.Context(), most)
		defer stop()
		args := []string{"-sSN", "--unix-socket", o.socket, "-H", "Accept: text/event-stream", "http://gateway/restconf/streams/events"}
		if last != "" {
			args = append(args, "-H", "Last-Event-ID: "+last)
		}
		out, err := exec.CommandContext(ctx, "curl", args...).Output()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			o.t.Fatal(err)
		}
		for one := range strings.SplitSeq(string(out), "\n") {
			if id, ok := strings.CutPrefix(one, "id: "); ok {
				ids = append(ids, id)
			}
			if data, ok := strings.CutPrefix(one, "data: "); ok {
				body := inside(o.t, data, "ietf-restconf:notification")
				var fields map[string]json.RawMessage
				if err := json.Unmarshal([]byte(body), &fields); err != nil || fields["eventTime"] == nil {
					o.t.Errorf("%v, %s", err, data)
				}
			}
		}
		return ids, string(out)
	}
	all, _ := read("", 300*time.Millisecond)
	if len(all) < 8 {
		o.t.Fatalf("only %d events", len(all))
	}
	if rest, _ := read(all[len(all)-3], 300*time.Millisecond); len(rest) != 2 || rest[1] != all[len(all)-1] {
		o.t.Errorf("behind %s: %v", all[len(all)-3], rest)
	}
	if again, _ := read("another.99999", 300*time.Millisecond); len(again) != len(all) {
		o.t.Errorf("of another journal: %d of %d", len(again), len(all))
	}
	go func() {
		time.Sleep(150 * time.Millisecond)
		r.event(Trouble, "test", "something happens")
	}()
	if rest, text := read(all[len(all)-1], 600*time.Millisecond); len(rest) != 1 || !strings.Contains(text, "something happens") {
		o.t.Errorf("what is new: %v, %s", rest, text)
	}
	o.refused("400", line.InvalidValue, "GET", "/restconf/streams/events", "", "Last-Event-ID: x")
	o.refused("406", line.InvalidValue, "GET", "/restconf/streams/events", "", "Accept: application/json")
}

// The same finds what the gateway sees around it, and shares keys that are never read back.
func TestCurlReadsOffersAndSharesKeys(t *testing.T) {
	o, r, _ := served(t)
	const path = "/restconf/ds/ietf-datastores:operational/wideknot-gateway:offers"
	_, text := o.want("200", "GET", path, "")
	o.lint("get", text)
	offers, err := gateway.ParseOffers([]byte(text))
	if err != nil || len(offers.Devices) != 2 || len(offers.Behind) != 1 || offers.PublicKey == "" {
		t.Errorf("%v: %s", err, text)
	}
	const share = "/restconf/operations/wideknot-gateway:share-keys"
	if _, text := o.want("200", "GET", "/restconf/operations", ""); !strings.Contains(text, `"wideknot-gateway:share-keys":[null]`) {
		t.Errorf("operations: %s", text)
	}
	key := `{"wideknot-gateway:input":{"key":[{"interface":"x-1","key":"hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo="}]}}`
	o.want("204", "POST", share, key)
	if kept, err := os.ReadFile(filepath.Join(r.Keys, "x-1.psk")); err != nil || strings.TrimSpace(string(kept)) != "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=" {
		t.Errorf("what was kept: %v", err)
	}
	for _, bad := range []string{"../x", "a/b", "x 1", ""} {
		o.refused("400", line.InvalidValue, "POST", share, strings.Replace(key, "x-1", bad, 1))
	}
	o.refused("400", line.InvalidValue, "POST", share, strings.Replace(key, "hSDw", "", 1))
	o.refused("400", line.MissingElement, "POST", share, `{}`)
}

// The same lets it look closely at a tunnel; what is asked and answered fits the module.
func TestCurlLooksAtATunnel(t *testing.T) {
	o, r, _ := served(t)
	c, _ := twoReleases()
	c.Tunnels[0].WireGuard.Allowed = []netip.Prefix{netip.MustParsePrefix("10.7.0.0/16"), netip.MustParsePrefix("10.8.0.0/16")}
	if err := r.Try(t.Context(), c, 1, "", 0); err != nil {
		t.Fatal(err)
	}
	name := c.Tunnels[0].Interface
	asks := `{"interface":["` + name + `"],"knock":true,"milliseconds":400}`
	o.lint("rpc", `{"wideknot-gateway:look":`+asks+`}`)
	_, text := o.want("200", "POST", "/restconf/operations/wideknot-gateway:look", `{"wideknot-gateway:input":`+asks+`}`)
	o.lint("reply", `{"wideknot-gateway:look":`+inside(t, text, "wideknot-gateway:output")+`}`)
	seen, err := gateway.ParseLooked([]byte(text))
	if err != nil || len(seen.Tunnels) != 1 || len(seen.Arrivals) != 1 || seen.For < 400 {
		t.Fatalf("%s, %v", text, err)
	}
	if l := seen.Tunnels[0]; l.Interface != name || len(l.Lacks) != 1 || !l.OtherSecret || l.PublicKey == "" || l.Peers[0] != c.Tunnels[0].WireGuard.PublicKey {
		t.Errorf("%+v", l)
	}
	for _, bad := range []string{`{}`, `{"wideknot-gateway:input":{"milliseconds":100000}}`, `{"wideknot-gateway:input":{"interface":["a/b"]}}`} {
		if status, _, text := o.ask("POST", "/restconf/operations/wideknot-gateway:look", bad); status != "400" {
			t.Errorf("%s: %s %s", bad, status, text)
		}
	}
}

// The same asks for echoes, and for a new key; what is asked and answered fits the module.
func TestCurlAsksForEchoesAndKeys(t *testing.T) {
	o, r, _ := served(t)
	const echo, fresh = "/restconf/operations/wideknot-gateway:echo", "/restconf/operations/wideknot-gateway:new-key"
	asks := `{"ask":[{"from":"10.9.0.1","to":"10.1.0.9","size":1400,"hops":true},{"from":"10.9.0.1","to":"10.2.0.8","hops":true}]}`
	o.lint("rpc", `{"wideknot-gateway:echo":`+asks+`}`)
	_, text := o.want("200", "POST", echo, `{"wideknot-gateway:input":`+asks+`}`)
	output := inside(t, text, "wideknot-gateway:output")
	o.lint("reply", `{"wideknot-gateway:echo":`+output+`}`)
	heard, err := gateway.ParseEchoed([]byte(text))
	if err != nil || len(heard) != 2 || heard[0].Answered != 1400 || len(heard[0].Hops) != 2 || heard[1].Words != "unreachable, by 10.0.0.1" {
		t.Errorf("%+v, %v", heard, err)
	}
	for _, bad := range []string{`{}`, `{"wideknot-gateway:input":{"ask":[{"from":"10.9.0.1"}]}}`, `{"wideknot-gateway:input":{"ask":[{"from":"10.9.0.1","to":"fd00::1"}]}}`} {
		if status, _, text := o.ask("POST", echo, bad); status != "400" {
			t.Errorf("%s: %s %s", bad, status, text)
		}
	}
	_, text = o.want("200", "POST", fresh, "")
	o.lint("reply", `{"wideknot-gateway:new-key":`+inside(t, text, "wideknot-gateway:output")+`}`)
	offers, err := r.Offers(t.Context())
	if err != nil || offers.NextKey == "" || offers.NextKey == offers.PublicKey || !strings.Contains(text, offers.NextKey) {
		t.Errorf("%s, %+v, %v", text, offers, err)
	}
	_, again := o.want("200", "POST", fresh, "")
	if later, err := r.Offers(t.Context()); err != nil || later.PublicKey != offers.PublicKey || later.NextKey == offers.NextKey || !strings.Contains(again, later.NextKey) {
		t.Errorf("another one: %s, %+v, %v", again, later, err)
	}
}
