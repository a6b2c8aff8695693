package line

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"strings"

	"wideknot/core/gateway"
)

// What a server reads of a gateway at most, in bytes: a state of the largest gateway, and
// small answers.
const (
	MostState  = 8 << 20
	MostConfig = 32 << 20
	mostAnswer = 1 << 20
	mostLine   = 64 << 10 // of a stream
)

// A Client is the server's side of one line: it asks the gateway at the other end.
type Client struct {
	conn *http.ClientConn
	raw  net.Conn
}

// NewClient speaks HTTP/2 over a connection whose TLS handshake is done.
func NewClient(ctx context.Context, secured net.Conn) (*Client, error) {
	protocols := &http.Protocols{}
	protocols.SetHTTP2(true)
	transport := &http.Transport{
		Protocols: protocols, DisableCompression: true, MaxResponseHeaderBytes: 32 << 10,
		HTTP2:          &http.HTTP2Config{MaxReadFrameSize: frameSize, SendPingTimeout: pingEvery, PingTimeout: pingWithin, MaxReceiveBufferPerConnection: 1 << 20, MaxReceiveBufferPerStream: 512 << 10},
		DialTLSContext: func(context.Context, string, string) (net.Conn, error) { return secured, nil },
	}
	conn, err := transport.NewClientConn(ctx, "https", "gateway:443")
	if err != nil {
		return nil, fmt.Errorf("the line does not speak HTTP/2: %w", err)
	}
	return &Client{conn, secured}, nil
}

// Close ends the line.
func (c *Client) Close() error { return errors.Join(c.conn.Close(), c.raw.Close()) }

// Err returns why the line cannot be used any more; nil while it can.
func (c *Client) Err() error { return c.conn.Err() }

// do asks. A gateway's refusal is an *Error. The body of an answer of no stream is read
// whole, to a limit.
func (c *Client) do(ctx context.Context, method, path string, body []byte, most int64, header http.Header) ([]byte, http.Header, error) {
	r, err := http.NewRequestWithContext(ctx, method, "https://gateway"+path, bytes.NewReader(body))
	if err != nil {
		return nil, nil, err
	}
	for name, values := range header {
		r.Header[name] = values
	}
	r.Header.Set("Accept", yangJSON)
	if body != nil {
		r.Header.Set("Content-Type", yangJSON)
	}
	answer, err := c.conn.RoundTrip(r)
	if err != nil {
		return nil, nil, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, most+1))
	if err != nil {
		return nil, nil, err
	}
	if int64(len(text)) > most {
		return nil, nil, fmt.Errorf("the gateway answers with more than %d bytes", most)
	}
	if answer.StatusCode >= 300 {
		return nil, answer.Header, refusalOf(answer.StatusCode, text)
	}
	return text, answer.Header, nil
}

// refusalOf reads an ietf-restconf:errors.
func refusalOf(status int, text []byte) *Error {
	out := &Error{Status: status, Tag: OperationFailed, Message: http.StatusText(status)}
	var d errorDocument
	if json.Unmarshal(text, &d) == nil && len(d.Errors.Error) > 0 {
		out.Tag, out.Message = d.Errors.Error[0].Tag, printable(d.Errors.Error[0].Message, 2000)
	}
	return out
}

// printable keeps what a gateway says to one line of bounded length.
func printable(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == 0xfffd {
			return ' '
		}
		return r
	}, s)
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + " …"
	}
	return s
}

// Library asks which modules the gateway has.
func (c *Client) Library(ctx context.Context) (*Library, error) {
	text, _, err := c.do(ctx, http.MethodGet, "/restconf/data/"+libraryNode, nil, mostAnswer, nil)
	if err != nil {
		return nil, err
	}
	var d struct {
		Library *Library `json:"ietf-yang-library:yang-library"`
	}
	if err := json.Unmarshal(text, &d); err != nil || d.Library == nil {
		return nil, errors.New("the gateway does not say which modules it has")
	}
	return d.Library, nil
}

// State asks how the gateway is.
func (c *Client) State(ctx context.Context) (*gateway.State, []byte, error) {
	text, _, err := c.do(ctx, http.MethodGet, "/restconf/ds/"+operational+"/"+stateNode, nil, MostState, nil)
	if err != nil {
		return nil, nil, err
	}
	s, err := gateway.ParseState(text)
	return s, text, err
}

// Running asks what the gateway runs.
func (c *Client) Running(ctx context.Context) (*gateway.Config, error) {
	text, _, err := c.do(ctx, http.MethodGet, "/restconf/ds/"+running+"/"+gatewayNode, nil, MostConfig, nil)
	if err != nil {
		return nil, err
	}
	return gateway.Parse(text)
}

// Offers asks what the gateway sees around it.
func (c *Client) Offers(ctx context.Context) (*gateway.Offers, []byte, error) {
	text, _, err := c.do(ctx, http.MethodGet, "/restconf/ds/"+operational+"/"+offersNode, nil, mostAnswer, nil)
	if err != nil {
		return nil, nil, err
	}
	o, err := gateway.ParseOffers(text)
	return o, text, err
}

// Offer writes a candidate that was made to follow what runs, by its digest; empty where
// nothing does.
func (c *Client) Offer(ctx context.Context, config *gateway.Config, follows string) error {
	text, err := gateway.Write(config)
	if err != nil {
		return err
	}
	if follows == "" {
		follows = "none"
	}
	body := append(append([]byte(`{"ietf-restconf:data":`), text...), '}')
	_, _, err = c.do(ctx, http.MethodPut, "/restconf/ds/"+candidate, body, mostAnswer, http.Header{"If-Match": {`"` + follows + `"`}})
	return err
}

// Try makes the candidate of a digest run for so many seconds.
func (c *Client) Try(ctx context.Context, digest string, release int, token string, seconds int) error {
	return c.operate(ctx, "ietf-netconf:commit", "ietf-netconf:input", committing{
		Confirmed: empty{nil}, Timeout: seconds, Persist: token, Candidate: digest, Release: release,
	})
}

// Confirm keeps what is tried by a token.
func (c *Client) Confirm(ctx context.Context, token string) error {
	return c.operate(ctx, "ietf-netconf:commit", "ietf-netconf:input", committing{PersistID: token})
}

// Cancel goes back from a trial.
func (c *Client) Cancel(ctx context.Context, token string) error {
	return c.operate(ctx, "ietf-netconf:cancel-commit", "ietf-netconf:input", map[string]string{"persist-id": token})
}

// Share tells keys that the gateway shares with far ends, by interface.
func (c *Client) Share(ctx context.Context, keys map[string][32]byte) error {
	var in sharing
	for name, key := range keys {
		in.Keys = append(in.Keys, sharedKey{name, key[:]})
	}
	return c.operate(ctx, "wideknot-gateway:share-keys", "wideknot-gateway:input", in)
}

// NewKey lets the gateway make another private key, and returns its public half.
func (c *Client) NewKey(ctx context.Context) (string, error) {
	text, _, err := c.do(ctx, http.MethodPost, "/restconf/operations/wideknot-gateway:new-key", nil, mostAnswer, nil)
	if err != nil {
		return "", err
	}
	var d struct {
		Output struct {
			Key []byte `json:"public-key"`
		} `json:"wideknot-gateway:output"`
	}
	if err := json.Unmarshal(text, &d); err != nil || len(d.Output.Key) != 32 {
		return "", errors.New("the gateway does not say its new key")
	}
	return base64.StdEncoding.EncodeToString(d.Output.Key), nil
}

// Echo lets the gateway ask for echoes.
func (c *Client) Echo(ctx context.Context, list []gateway.Echo) ([]gateway.Echoed, error) {
	body, err := json.Marshal(map[string]any{"wideknot-gateway:input": asking{list}})
	if err != nil {
		return nil, err
	}
	text, _, err := c.do(ctx, http.MethodPost, "/restconf/operations/wideknot-gateway:echo", body, mostAnswer, nil)
	if err != nil {
		return nil, err
	}
	answers, err := gateway.ParseEchoed(text)
	for i := range answers {
		answers[i].Words = printable(answers[i].Words, 200)
	}
	return answers, err
}

// Look lets the gateway look closely at tunnels.
func (c *Client) Look(ctx context.Context, l *gateway.Look) (*gateway.Looked, error) {
	body, err := json.Marshal(map[string]any{"wideknot-gateway:input": l})
	if err != nil {
		return nil, err
	}
	text, _, err := c.do(ctx, http.MethodPost, "/restconf/operations/wideknot-gateway:look", body, mostAnswer, nil)
	if err != nil {
		return nil, err
	}
	return gateway.ParseLooked(text)
}

// Hold lets the gateway hold tunnels down, or let them go.
func (c *Client) Hold(ctx context.Context, h *gateway.Hold) error {
	return c.operate(ctx, "wideknot-gateway:hold", "wideknot-gateway:input", h)
}

// Sessions lets the gateway tell what is open by a tunnel, or end it.
func (c *Client) Sessions(ctx context.Context, o *gateway.SessionsOrder) (*gateway.Sessions, error) {
	body, err := json.Marshal(map[string]any{"wideknot-gateway:input": o})
	if err != nil {
		return nil, err
	}
	text, _, err := c.do(ctx, http.MethodPost, "/restconf/operations/wideknot-gateway:sessions", body, mostAnswer, nil)
	if err != nil {
		return nil, err
	}
	out, err := gateway.ParseSessions(text)
	if err == nil {
		out.Words = printable(out.Words, 200)
	}
	return out, err
}

// Samples takes what the gateway measured, but for those of an epoch up to a number, which it may
// forget.
func (c *Client) Samples(ctx context.Context, epoch string, has gateway.Counter) (*gateway.Samples, error) {
	body, err := json.Marshal(map[string]any{"wideknot-gateway:input": having{epoch, has}})
	if err != nil {
		return nil, err
	}
	text, _, err := c.do(ctx, http.MethodPost, "/restconf/operations/wideknot-gateway:samples", body, mostAnswer, nil)
	if err != nil {
		return nil, err
	}
	return gateway.ParseSamples(text)
}

// Bench lets the gateway load a tunnel.
func (c *Client) Bench(ctx context.Context, b *gateway.Bench) (*gateway.Benched, error) {
	body, err := json.Marshal(map[string]any{"wideknot-gateway:input": b})
	if err != nil {
		return nil, err
	}
	text, _, err := c.do(ctx, http.MethodPost, "/restconf/operations/wideknot-gateway:bench", body, mostAnswer, nil)
	if err != nil {
		return nil, err
	}
	return gateway.ParseBenched(text)
}

func (c *Client) operate(ctx context.Context, name, envelope string, input any) error {
	body, err := json.Marshal(map[string]any{envelope: input})
	if err != nil {
		return err
	}
	_, _, err = c.do(ctx, http.MethodPost, "/restconf/operations/"+name, body, mostAnswer, nil)
	return err
}

// Follow reads the journal behind a position, EPOCH.SEQUENCE or empty for all that is
// kept, until the line ends or told says so.
func (c *Client) Follow(ctx context.Context, after string, told func(position string, e Event) error) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://gateway/restconf/streams/events", nil)
	if err != nil {
		return err
	}
	r.Header.Set("Accept", eventStream)
	if after != "" {
		r.Header.Set("Last-Event-ID", after)
	}
	answer, err := c.conn.RoundTrip(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if kind, _, err := mime.ParseMediaType(answer.Header.Get("Content-Type")); answer.StatusCode != http.StatusOK || err != nil || kind != eventStream {
		return fmt.Errorf("the gateway's events cannot be read: status %d", answer.StatusCode)
	}
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(make([]byte, 0, 4096), mostLine)
	id := ""
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "id":
			id = value
		case "data":
			var n notification
			if err := json.Unmarshal([]byte(value), &n); err != nil {
				return fmt.Errorf("an event cannot be read: %w", err)
			}
			e := n.Notification.Event
			if e == nil {
				continue // what was lost is seen by the numbers
			}
			if err := told(id, Event{Epoch: e.Epoch, Sequence: e.Sequence, Kind: e.Kind, About: e.About, Words: printable(e.Words, 2000)}); err != nil {
				return err
			}
		}
	}
	return lines.Err()
}
