package demo

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"

	"github.com/emersion/go-smtp"

	"mullein/internal/settings"
)

// Receivers stand in for a mail server and for a program that follows loads, on this machine, until
// ctx ends. They take everything in and keep nothing: what was sent is seen in the console. Tell
// returns settings with them as outlets.
func Receivers(ctx context.Context) (tell func(settings.Settings) settings.Settings, err error) {
	mail, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("the sample mail server: %w", err)
	}
	hook, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("the sample hook: %w", err)
	}
	post := smtp.NewServer(mailbox{})
	post.Domain = "sorrel.example"
	follower := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		_, _ = io.WriteString(w, "taken")
	})}
	go func() { _ = post.Serve(mail) }()
	go func() { _ = follower.Serve(hook) }()
	context.AfterFunc(ctx, func() {
		post.Close()
		follower.Close()
	})
	return func(s settings.Settings) settings.Settings {
		if len(s.Outlets) > 0 { // somebody says who is told
			return s
		}
		s.Outlets = map[string]settings.Outlet{
			"duty-mail": {Mail: mail.Addr().String(), TLS: "none", From: "mullein@sorrel.example", To: []string{"duty@sorrel.example"},
				Daily: &settings.Daily{At: "00:00"}},
			"mart-hook": {Hook: "http://" + hook.Addr().String() + "/loads",
				Secret: "whsec_" + base64.StdEncoding.EncodeToString([]byte("the sample hook of the Sorrel basin"))},
		}
		s.Tell = []settings.Tell{
			{Of: []string{"missing", "refused", "failed", "held", "rejects", "warning", "table", "landing", "database", "disk", "stopped",
				"rollup", "service"}, By: "duty-mail", To: "owner"},
			{Of: []string{"service", "outlet"}, By: "duty-mail"},
			{Of: []string{"loaded"}, By: "mart-hook", Feeds: []string{"lab-samples", "station-registry"}},
		}
		return s
	}, nil
}

// mailbox takes mails in and keeps none.
type mailbox struct{}

// NewSession begins a session.
func (mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return mailbox{}, nil }

// Mail takes any sender.
func (mailbox) Mail(string, *smtp.MailOptions) error { return nil }

// Rcpt takes any reader.
func (mailbox) Rcpt(string, *smtp.RcptOptions) error { return nil }

// Data takes a mail in.
func (mailbox) Data(r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	return err
}

// Reset forgets the mail that was begun.
func (mailbox) Reset() {}

// Logout ends a session.
func (mailbox) Logout() error { return nil }
