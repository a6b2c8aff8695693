package events

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	netmail "net/mail"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Kinds of listeners.
const (
	Webhook = "webhook"
	Mailbox = "mailbox"
)

// How telling goes.
const (
	tellEvery   = 500 * time.Millisecond
	tellWithin  = 10 * time.Second
	tellFirst   = 5 * time.Second // until it is tried again; twice as long each time
	tellLongest = 10 * time.Minute
	tellFor     = 24 * time.Hour // then it is given up
	mostTold    = 50             // listeners of an estate
	sealPurpose = "listener"
)

// A Teller tells listeners of events. Hosts are those that may be told, as its administrator
// says: whoever owns an estate does not choose what this server connects to.
type Teller struct {
	Store  *store.Store
	Sealer *identity.Sealer
	Hosts  []string // HOST or HOST:PORT
	Mail   MailServer
	Origin string // of the web interface, for links
	Log    *slog.Logger
	Client *http.Client // nil for the usual one
}

// A MailServer takes mail. With no host none is sent.
type MailServer struct {
	Host     string
	Port     int
	From     string
	User     string
	Password string
	Plain    bool // without TLS, for one on this machine
}

// ListenerOrder is a listener that somebody wants.
type ListenerOrder struct {
	Kind    string `json:"kind" enum:"webhook,mailbox"`
	Target  string `json:"target" maxLength:"500" doc:"URL of a webhook, or an address for mail"`
	CutOnly bool   `json:"cut_only,omitempty" doc:"only what cuts somebody, and its end"`
	From    string `json:"from,omitempty" doc:"time of day, UTC, from which it is told, as 22:30; events of other times are not"`
	To      string `json:"to,omitempty"`
}

var clock = "15:04"

// Check says what is wrong with an order.
func (t *Teller) Check(o *ListenerOrder) error {
	for field, text := range map[string]string{"from": o.From, "to": o.To} {
		if _, err := time.Parse(clock, text); text != "" && err != nil {
			return &identity.Refused{Field: field, Text: fmt.Sprintf("%q is no time of day, as 22:30", text)}
		}
	}
	if (o.From == "") != (o.To == "") {
		return &identity.Refused{Field: "to", Text: "give both times or none"}
	}
	switch o.Kind {
	case Mailbox:
		at, err := netmail.ParseAddress(o.Target)
		switch {
		case t == nil || t.Mail.Host == "":
			return &identity.Refused{Field: "kind", Text: "this server sends no mail: it was started without --mail-server"}
		case err != nil || at.Name != "" || strings.ContainsAny(o.Target, "\r\n"):
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("%q is no address for mail", o.Target)}
		}
	case Webhook:
		u, err := url.Parse(o.Target)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil || u.Fragment != "":
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("%q is no address such as https://chat.example/hook", o.Target)}
		case t == nil || !t.allows(u):
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("this server may not tell %s: its administrator allows hosts by --tell", u.Host)}
		}
	default:
		return &identity.Refused{Field: "kind", Text: "it is a webhook or a mailbox"}
	}
	return nil
}

// allows reports whether a URL is of a host that may be told.
func (t *Teller) allows(u *url.URL) bool {
	return slices.Contains(t.Hosts, u.Host) || slices.Contains(t.Hosts, u.Hostname()) && (u.Port() == "" || u.Scheme == "https" && u.Port() == "443")
}

// Add keeps a listener, and returns the secret with which a webhook is signed, told once.
func Add(ctx context.Context, s *store.Store, t *Teller, sealer *identity.Sealer, estate uint64, o ListenerOrder) (id uint64, secret string, err error) {
	if err := t.Check(&o); err != nil {
		return 0, "", err
	}
	var sealed []byte
	if o.Kind == Webhook {
		raw := make([]byte, 24)
		_, _ = rand.Read(raw) // never fails
		secret = "whsec_" + base64.StdEncoding.EncodeToString(raw)
		sealed = sealer.Seal(raw, sealPurpose)
	}
	err = s.InTransaction(ctx, func(tx *store.Tx) error {
		have, err := tx.Listeners(estate)
		if err != nil {
			return err
		}
		if len(have) >= mostTold {
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("an estate has up to %d listeners", mostTold)}
		}
		at, err := tx.Now()
		if err != nil {
			return err
		}
		row := store.Listener{EstateID: estate, Kind: o.Kind, Target: o.Target, CutOnly: o.CutOnly, FromTime: o.From, ToTime: o.To, Sealed: sealed, Author: identity.ActorOf(ctx).Name, MadeAt: at}
		if err := tx.AddListener(&row); err != nil {
			return err
		}
		id = row.ID
		return identity.Record(ctx, tx, at, identity.Act{Action: "listener.add", Estate: estate, Object: fmt.Sprintf("listener %d", id), After: o})
	})
	return id, secret, err
}

// Drop lets a listener be told nothing more.
func Drop(ctx context.Context, s *store.Store, estate, id uint64) error {
	return s.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Listener(estate, id)
		if err != nil {
			return fmt.Errorf("listener %d: %w", id, err)
		}
		if _, err := tx.DropListener(estate, id); err != nil {
			return err
		}
		at, err := tx.Now()
		if err != nil {
			return err
		}
		return identity.Record(ctx, tx, at, identity.Act{Action: "listener.drop", Estate: estate, Object: fmt.Sprintf("listener %d", id), Before: map[string]any{"kind": row.Kind, "target": row.Target}})
	})
}

// Reseal seals the secrets of listeners with the present master key, and counts those that an
// older one had sealed.
func Reseal(ctx context.Context, s *store.Store, sealer *identity.Sealer) (n int, err error) {
	err = s.InTransaction(ctx, func(tx *store.Tx) error {
		n = 0
		rows, err := tx.AllListeners()
		for i := range rows {
			if len(rows[i].Sealed) == 0 {
				continue
			}
			sealed, err := sealer.Reseal(rows[i].Sealed, sealPurpose)
			if err != nil {
				return err
			}
			if sealed == nil {
				continue
			}
			rows[i].Sealed = sealed
			if err := tx.SealListener(&rows[i]); err != nil {
				return err
			}
			n++
		}
		return err
	})
	return n, err
}

// enqueue lets each listener that wants an event be told of it.
func enqueue(tx *store.Tx, e *store.Event) error {
	list, err := tx.Listeners(e.EstateID)
	if err != nil {
		return err
	}
	for i := range list {
		if l := &list[i]; wants(l, e) {
			if err := tx.AddMessage(&store.Message{ListenerID: l.ID, EventID: e.ID, DueAt: e.At}); err != nil {
				return err
			}
		}
	}
	return nil
}

// wants reports whether a listener is told of an event: of what cuts somebody, or of all, and at
// its times of day.
func wants(l *store.Listener, e *store.Event) bool {
	if l.CutOnly && e.Cut == 0 {
		return false
	}
	if l.FromTime == "" {
		return true
	}
	now := e.At.UTC().Format(clock)
	if l.FromTime <= l.ToTime {
		return l.FromTime <= now && now < l.ToTime
	}
	return now >= l.FromTime || now < l.ToTime // over midnight
}

// Run tells what is due until the context ends.
func (t *Teller) Run(ctx context.Context) {
	for {
		if err := t.turn(ctx); err != nil && ctx.Err() == nil {
			t.Log.Error("telling of events", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(tellEvery):
		}
	}
}

// due is what is told in one turn.
type due struct {
	message  store.Message
	listener store.Listener
	event    store.Event
	estate   store.Estate
}

func (t *Teller) turn(ctx context.Context) error {
	var list []due
	err := t.Store.InTransaction(ctx, func(tx *store.Tx) (err error) {
		list, err = take(tx)
		return err
	})
	if err != nil {
		return err
	}
	for i := range list {
		d := &list[i]
		telling, done := context.WithTimeout(ctx, tellWithin)
		err := t.tell(telling, d)
		done()
		now := time.Now().UTC()
		d.message.Words = ""
		if err != nil {
			d.message.Words = cut(err.Error(), 300)
		} else {
			d.message.SentAt = &now
		}
		if err := t.Store.InTransaction(ctx, func(tx *store.Tx) error { return tx.SaveMessage(&d.message) }); err != nil {
			return err
		}
	}
	return nil
}

// take lists what is to be told now. While this server tries, no other one does; what is too old
// is given up.
func take(tx *store.Tx) (list []due, err error) {
	rows, err := tx.DueMessages()
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	listeners, err := tx.AllListeners()
	if err != nil {
		return nil, err
	}
	now, err := tx.Now()
	if err != nil {
		return nil, err
	}
	for i := range rows {
		d := due{message: rows[i]}
		at := slices.IndexFunc(listeners, func(l store.Listener) bool { return l.ID == rows[i].ListenerID })
		if at < 0 {
			continue // it was dropped just now, and its messages with it
		}
		d.listener = listeners[at]
		if d.event, err = tx.EventByID(rows[i].EventID); err == nil {
			d.estate, err = tx.EstateByID(d.event.EstateID)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		d.message.Tries++
		d.message.DueAt = now.Add(min(tellFirst<<min(d.message.Tries-1, 10), tellLongest))
		if err != nil || now.Sub(d.event.At) > tellFor {
			d.message.SentAt, d.message.Words = &now, "given up"
		}
		if err := tx.SaveMessage(&d.message); err != nil {
			return nil, err
		}
		if d.message.SentAt == nil {
			list = append(list, d)
		}
	}
	return list, nil
}

func (t *Teller) tell(ctx context.Context, d *due) error {
	if d.listener.Kind == Mailbox {
		return t.post(ctx, d)
	}
	return t.call(ctx, d)
}

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

// post sends a mail.
func (t *Teller) post(ctx context.Context, d *due) error {
	if t.Mail.Host == "" {
		return errors.New("this server sends no mail any more")
	}
	m := mail.NewMsg()
	e := &d.event
	if err := errors.Join(m.From(t.Mail.From), m.To(d.listener.Target)); err != nil {
		return err
	}
	head, lasted := "", ""
	if e.Kind == Ended {
		head, lasted = "over: ", fmt.Sprintf("It lasted %s.\n", time.Duration(e.Lasted)*time.Second)
	}
	m.Subject(cut(fmt.Sprintf("[%s] %s%s", d.estate.Key, head, e.Words), 200))
	text := fmt.Sprintf("%s%s.\n%s", head, e.Words, lasted)
	if e.Tunnels > 0 {
		text += fmt.Sprintf("It explains %d tunnels.\n", e.Tunnels)
	}
	if e.Cut > 0 {
		text += fmt.Sprintf("%d pairs of sites are cut.\n", e.Cut)
	} else if e.Kind == Began {
		text += "Nobody is cut by it.\n"
	}
	text += fmt.Sprintf("%s, release %d.\n%s\n", e.At.UTC().Format(time.RFC1123), e.ReleaseNo, t.location(d))
	m.SetBodyString(mail.TypeTextPlain, text)
	return t.deliver(ctx, m)
}

// deliver hands a mail to the server for mail.
func (t *Teller) deliver(ctx context.Context, m *mail.Msg) error {
	options := []mail.Option{mail.WithPort(t.Mail.Port), mail.WithTimeout(tellWithin)}
	if t.Mail.Plain {
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	} else {
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if t.Mail.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(t.Mail.User), mail.WithPassword(t.Mail.Password))
	}
	client, err := mail.NewClient(t.Mail.Host, options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, m)
}
