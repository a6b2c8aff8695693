package events

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// CloudEvent is an event by CloudEvents 1.0, in its structured JSON form.
type CloudEvent struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        EventData `json:"data"`
}

// EventData is what an event says.
type EventData struct {
	Estate   string `json:"estate"`
	Kind     string `json:"kind"`
	Code     string `json:"code"`
	Sure     string `json:"sure"`
	Words    string `json:"words"`
	Site     string `json:"site,omitempty"`
	Link     string `json:"link,omitempty"`
	Part     string `json:"part,omitempty"`
	Tunnels  int    `json:"tunnels"`
	Cut      int    `json:"pairs_cut"`
	LastedS  int    `json:"lasted_s,omitempty"`
	Release  uint64 `json:"release"`
	Location string `json:"location,omitempty"`
}

func (t *Teller) cloudEvent(d *due) CloudEvent {
	e := &d.event
	subject := e.Part
	if subject == "" {
		subject = strings.Trim(e.Site+"/"+e.Link, "/")
	}
	return CloudEvent{
		SpecVersion: "1.0", ID: strconv.FormatUint(e.ID, 10), Source: "/estates/" + d.estate.Key, Type: "wideknot.trouble." + e.Kind, Subject: subject, Time: e.At.UTC(), ContentType: "application/json",
		Data: EventData{d.estate.Key, e.Kind, e.Code, e.Sure, e.Words, e.Site, e.Link, e.Part, e.Tunnels, e.Cut, e.Lasted, e.ReleaseNo, t.location(d)},
	}
}

func (t *Teller) location(d *due) string {
	if t.Origin == "" {
		return ""
	}
	return strings.TrimRight(t.Origin, "/") + "/e/" + d.estate.Key + "/d/released/watch"
}

// call tells a webhook, signed: the header has HMAC-SHA256 of its id, its time and its body.
func (t *Teller) call(ctx context.Context, d *due) error {
	u, err := url.Parse(d.listener.Target)
	if err != nil || !t.allows(u) {
		return fmt.Errorf("this server may not tell %s any more", d.listener.Target)
	}
	body, err := json.Marshal(t.cloudEvent(d))
	if err != nil {
		return err
	}
	secret, err := t.Sealer.Open(d.listener.Sealed, sealPurpose)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, u.String(), bytes.NewReader(body))
	if err != nil {
		return err
	}
	id, at := fmt.Sprintf("msg_%d", d.message.ID), strconv.FormatInt(time.Now().Unix(), 10)
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	request.Header.Set("webhook-id", id)
	request.Header.Set("webhook-timestamp", at)
	request.Header.Set("webhook-signature", "v1,"+Sign(secret, id, at, body))
	client := t.Client
	if client == nil {
		client = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	}
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, 1<<16) // what it says does not matter
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}

// Sign is the signature of a webhook's message, in base64.
func Sign(secret []byte, id, at string, body []byte) string {
	code := hmac.New(sha256.New, secret)
	fmt.Fprintf(code, "%s.%s.%s", id, at, body)
	return base64.StdEncoding.EncodeToString(code.Sum(nil))
}
