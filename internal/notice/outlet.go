package notice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/wneessen/go-mail"

	"mullein/internal/settings"
)

// Event is a CloudEvent, version 1.0, as hooks and commands get it.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	TraceParent string    `json:"traceparent,omitempty"` // as CloudEvents' extension for distributed tracing has it
	Data        any       `json:"data"`
}

// Message is a notice as it is handed over.
type Message struct {
	ID      string          // the same at each attempt
	To      []string        // mail addresses
	Subject string          // of a mail
	Text    string          // of a mail
	HTML    string          // of a mail; it says the same
	Event   json.RawMessage // for programs
	Env     []string        // for commands: what the event is about, as NAME=value
}

// RefusedError says that the other side will never take a message.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string { return e.Reason }

// answerKept bounds what is kept of an answer, in bytes.
const answerKept = 2000

// defaultTimeLimit bounds how long a message may take where the outlet says nothing.
const defaultTimeLimit = 30 * time.Second

// Send hands a message to an outlet. It returns what the other side said. The error is a
// [RefusedError] where trying again is of no use.
func Send(ctx context.Context, o settings.Outlet, m *Message) (answer string, err error) {
	limit := time.Duration(o.TimeLimit)
	if limit == 0 {
		limit = defaultTimeLimit
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	switch {
	case o.Mail != "":
		answer, err = sendMail(ctx, o, m, limit)
	case o.Hook != "":
		answer, err = post(ctx, o, m)
	case o.Lineage != "":
		answer, err = sendLineage(ctx, o, m)
	default:
		answer, err = runCommand(ctx, o, m)
	}
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		err = fmt.Errorf("no answer within %s: %w", limit, err)
	}
	return printable(answer), err
}

// printable cuts an answer, and leaves out what is no text.
func printable(s string) string {
	s = strings.ToValidUTF8(s[:min(len(s), answerKept)], "")
	return strings.TrimSpace(strings.ReplaceAll(s, "\x00", ""))
}

// secretOf returns a secret, or what its file holds.
func secretOf(secret, file string) (string, error) {
	if secret != "" || file == "" {
		return secret, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("read the secret: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

func sendMail(ctx context.Context, o settings.Outlet, m *Message, limit time.Duration) (string, error) {
	host, port, err := net.SplitHostPort(o.Mail)
	if err != nil {
		return "", err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return "", fmt.Errorf("port %q: %w", port, err)
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(limit), mail.WithTLSPolicy(mail.TLSMandatory), mail.WithoutNoop()}
	var dialer interface {
		DialContext(ctx context.Context, network, address string) (net.Conn, error)
	} = &net.Dialer{}
	switch o.TLS {
	case "implicit":
		options = append(options, mail.WithSSL())
		dialer = &tls.Dialer{Config: &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}}
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	// A server may take the connection and say nothing: it is closed when the time is over.
	options = append(options, mail.WithDialContextFunc(func(dialing context.Context, network, address string) (net.Conn, error) {
		conn, err := dialer.DialContext(dialing, network, address)
		if err == nil {
			context.AfterFunc(ctx, func() { conn.Close() })
		}
		return conn, err
	}))
	if o.User != "" {
		password, err := secretOf(o.Password, o.PasswordFile)
		if err != nil {
			return "", err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(o.User), mail.WithPassword(password))
	}
	letter, err := mailOf(o, m)
	if err != nil {
		return "", &RefusedError{err.Error()}
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return "", err
	}
	if err = client.DialAndSendWithContext(ctx, letter); err != nil {
		return "", mailError(err)
	}
	return letter.ServerResponse(), nil
}

// mailError tells what a mail server will never take from what may pass.
func mailError(err error) error {
	var failed *mail.SendError
	const forGood = 550
	if errors.As(err, &failed) && !failed.IsTemp() && failed.ErrorCode() >= forGood {
		return &RefusedError{err.Error()}
	}
	return err
}

// mailOf writes a mail.
func mailOf(o settings.Outlet, m *Message) (*mail.Msg, error) {
	letter := mail.NewMsg(mail.WithNoDefaultUserAgent())
	to := m.To
	if len(to) == 0 {
		to = o.To
	}
	if err := errors.Join(letter.From(o.From), letter.To(to...)); err != nil {
		return nil, err
	}
	letter.Subject(m.Subject)
	letter.SetDate()
	_, host, _ := strings.Cut(o.From, "@")
	letter.SetMessageIDWithValue("mullein-" + m.ID + "@" + strings.TrimRight(host, "> "))
	letter.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody answers it by a machine
	letter.SetBodyString(mail.TypeTextPlain, m.Text)
	letter.AddAlternativeString(mail.TypeTextHTML, m.HTML)
	return letter, nil
}

// hooks is the client for hooks. A hook that redirects is an error: it could lead inside.
var hooks = &http.Client{
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute,
		TLSHandshakeTimeout: 10 * time.Second, MaxResponseHeaderBytes: 64 << 10},
}

// post posts an event to a hook, signed as the Standard Webhooks specification says.
func post(ctx context.Context, o settings.Outlet, m *Message) (string, error) {
	secret, err := secretOf(o.Secret, o.SecretFile)
	if err != nil {
		return "", err
	}
	key, err := settings.SigningKey(secret)
	if err != nil {
		return "", err
	}
	now := strconv.FormatInt(time.Now().Unix(), 10)
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, o.Hook, bytes.NewReader(m.Event))
	if err != nil {
		return "", err
	}
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	request.Header.Set("User-Agent", "mullein")
	request.Header.Set("webhook-id", m.ID)
	request.Header.Set("webhook-timestamp", now)
	request.Header.Set("webhook-signature", Sign(key, m.ID, now, m.Event))
	return handOver(request)
}

// handOver sends a request, and returns what the other side said.
func handOver(request *http.Request) (string, error) {
	response, err := hooks.Do(request)
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, answerKept)) // the rest is nobody's business
	answer := response.Status + " " + string(body)
	switch code := response.StatusCode; {
	case code >= 200 && code < 300:
		return answer, nil
	case code >= 300 && code < 400:
		return answer, fmt.Errorf("it answers %s to %s, and redirects are not followed; name the address where it ends",
			response.Status, response.Header.Get("Location"))
	case code == http.StatusBadRequest || code == http.StatusGone || code == http.StatusRequestEntityTooLarge ||
		code == http.StatusUnprocessableEntity:
		return answer, &RefusedError{"it answers " + response.Status}
	case err != nil:
		return answer, err
	}
	return answer, fmt.Errorf("it answers %s", response.Status)
}

// Sign returns the signature of a message, version 1 of Standard Webhooks.
func Sign(key []byte, id, timestamp string, body []byte) string {
	h := hmac.New(sha256.New, key)
	fmt.Fprintf(h, "%s.%s.%s", id, timestamp, body)
	return "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// runCommand runs a program with the event on its standard input. When its time is over, it ends
// with all that it started.
func runCommand(ctx context.Context, o settings.Outlet, m *Message) (string, error) {
	cmd := exec.CommandContext(ctx, o.Command[0], o.Command[1:]...)
	cmd.Stdin = bytes.NewReader(m.Event)
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "MULLEIN_NOTICE=" + m.ID, "MULLEIN_SUBJECT=" + m.Subject}, m.Env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	said := &bounded{}
	cmd.Stdout, cmd.Stderr = said, said
	err := cmd.Run()
	return said.String(), err
}

// bounded keeps the beginning of what is written to it.
type bounded struct{ bytes.Buffer }

// Write keeps what fits, and takes all.
func (b *bounded) Write(p []byte) (int, error) {
	b.Buffer.Write(p[:min(len(p), max(0, answerKept-b.Len()))])
	return len(p), nil
}
