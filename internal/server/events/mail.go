package events

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/wneessen/go-mail"

	"wideknot/core/words"
)

// A MailServer takes mail. With no host none is sent.
type MailServer struct {
	Host     string
	Port     int
	From     string
	User     string
	Password string
	Plain    bool // without TLS, for one on this machine
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
		text += "It explains " + words.Many(e.Tunnels, "tunnel", "tunnels") + ".\n"
	}
	if e.Cut > 0 {
		text += words.Many(e.Cut, "pair of sites is", "pairs of sites are") + " cut.\n"
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
