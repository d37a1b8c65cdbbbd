package notify

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"text/template"
	"time"

	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/wneessen/go-mail"

	"aditus/internal/config"
	"aditus/internal/core/fault"
	"aditus/internal/core/notice"
	"aditus/internal/core/say"
	"aditus/internal/dial"
	"aditus/internal/ledger"
	"aditus/internal/source"
)

// Bounds on telling one message.
const (
	sendWithin = 30 * time.Second
	mostAnswer = 4 << 10 // of an answer, which is read for what went wrong alone
	longestAsk = time.Hour
)

// refusal is that whoever is told says that it is not right: trying again helps little.
type refusal struct{ error }

func (r refusal) Unwrap() error { return r.error }

// later is that whoever is told asks to be told again after some time.
type later struct {
	error
	after time.Duration
}

func (l later) Unwrap() error { return l.error }

// sink tells messages to somebody. each tells that every fact is told by itself.
type sink interface {
	send(ctx context.Context, m notice.Message, facts []ledger.Fact) error
}

// open makes the sink of the settings.
func open(s config.Sink, line string, credentials func(string) source.Credential) (one sink, each bool) {
	credential := func(name string) source.Credential {
		if name == "" || credentials == nil {
			return source.Credential{}
		}
		return credentials(name)
	}
	switch {
	case s.Webhook != nil:
		return webhook{*s.Webhook, line, credential}, true
	case s.Mail != nil:
		return mailbox{*s.Mail, line, credential}, false
	case s.Chat != nil:
		return chat{*s.Chat, line, credential}, false
	}
	return program{s.Program, line}, false
}

// client asks over HTTP. Nobody is followed elsewhere: where notices go stands in the settings.
func client(ca string) (*http.Client, error) {
	way, err := dial.Outside(ca)
	if err != nil {
		return nil, err
	}
	way.DisableKeepAlives = true // one is told now and then
	return &http.Client{Transport: way, Timeout: sendWithin, CheckRedirect: dial.Stay}, nil
}

// post sends a request, and tells what is wrong with the answer.
func post(ask *http.Client, r *http.Request) error {
	answer, err := ask.Do(r)
	if err != nil {
		return fmt.Errorf("%s cannot be asked: %w", r.URL.Host, fault.Cause(err)) // without the address, which may be secret
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, mostAnswer))
	if answer.StatusCode/100 == 2 {
		return nil
	}
	text := []rune(plain(string(said)))
	text = text[:min(len(text), 120)]
	err = fmt.Errorf("it answers with status %d %s", answer.StatusCode, string(text))
	switch code := answer.StatusCode; {
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable:
		if seconds, no := strconv.Atoi(answer.Header.Get("Retry-After")); no == nil && seconds > 0 {
			return later{err, min(time.Duration(seconds)*time.Second, longestAsk)}
		}
	case code/100 == 3:
		return refusal{fmt.Errorf("it answers with status %d and sends us elsewhere, which is not followed: write its new address into the settings", code)}
	case code/100 == 4 && code != http.StatusRequestTimeout && code != http.StatusTooEarly:
		return refusal{err}
	}
	return err
}

type webhook struct {
	config.Webhook
	line       string
	credential func(string) source.Credential
}

func (w webhook) send(ctx context.Context, _ notice.Message, facts []ledger.Fact) error {
	ask, err := client(w.CA)
	if err != nil {
		return err
	}
	for _, f := range facts {
		e, err := Event(w.line, f)
		if err != nil {
			return refusal{err}
		}
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, nil)
		if err != nil {
			return err
		}
		mode := binding.WithForceStructured(ctx)
		if w.Mode == "binary" {
			mode = binding.WithForceBinary(ctx)
		}
		if err := cehttp.WriteRequest(mode, binding.ToMessage(&e), r); err != nil {
			return refusal{err}
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return err
		}
		body = say.JSON(body)
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
		if secret := w.credential(w.Webhook.Credential).Password; secret != "" {
			if err := sign(r, secret, w.id(f), time.Now(), body); err != nil {
				return err
			}
		} else if w.Webhook.Credential != "" {
			return fmt.Errorf("there is no credential %s to sign with; give it with: aditus link credential %s", w.Webhook.Credential, w.Webhook.Credential)
		}
		if err := post(ask, r); err != nil {
			return err
		}
	}
	return nil
}

// id names a fact to whoever is told: the same however often it is.
func (w webhook) id(f ledger.Fact) string {
	sum := sha256.Sum256([]byte(w.line))
	return fmt.Sprintf("aditus_%s_%d", hex.EncodeToString(sum[:4]), f.Seq)
}

// sign signs a request after the Standard Webhooks specification.
func sign(r *http.Request, secret, id string, at time.Time, body []byte) error {
	key, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		return fmt.Errorf("the secret to sign with is none: it is whsec_ and some bytes in base64 (%w)", err)
	}
	signature, err := key.Sign(id, at, body)
	if err != nil {
		return err
	}
	r.Header.Set(standardwebhooks.HeaderWebhookID, id)
	r.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
	r.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	return nil
}

type chat struct {
	config.Chat
	line       string
	credential func(string) source.Credential
}

// functions are those of a chat's template.
var functions = template.FuncMap{"json": func(value any) (string, error) {
	text, err := json.Marshal(value)
	return string(say.JSON(text)), err
}}

func (c chat) send(ctx context.Context, m notice.Message, _ []ledger.Fact) error {
	shape, err := c.TemplateOf(functions)
	if err != nil {
		return refusal{err}
	}
	var body bytes.Buffer
	if err := shape.Execute(&body, map[string]any{"Subject": m.Subject, "Text": m.Text(), "Lines": m.Lines, "Line": c.line}); err != nil {
		return refusal{err}
	}
	if !json.Valid(body.Bytes()) {
		return refusal{errors.New("its template makes no JSON: write {{json .Text}} where a text stands")}
	}
	at := cmp.Or(c.URL, c.credential(c.Chat.Credential).Password)
	if at == "" {
		return fmt.Errorf("there is no credential %s with its address; give it with: aditus link credential %s", c.Chat.Credential, c.Chat.Credential)
	}
	ask, err := client("")
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, at, &body)
	if err != nil {
		return refusal{errors.New("its address is none")}
	}
	r.Header.Set("Content-Type", "application/json; charset=utf-8")
	return post(ask, r)
}

type mailbox struct {
	config.Mail
	line       string
	credential func(string) source.Credential
}

func (b mailbox) send(ctx context.Context, m notice.Message, _ []ledger.Fact) error {
	host, number, _ := net.SplitHostPort(b.Server) // it was checked
	port, _ := strconv.Atoi(number)
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(sendWithin), mail.WithTLSPortPolicy(mail.TLSMandatory)}
	switch {
	case b.Plain:
		options = append(options, mail.WithTLSPortPolicy(mail.NoTLS))
	case port == 465:
		options = append(options, mail.WithSSL())
	}
	if b.CA != "" {
		pool, err := dial.Trusted(b.CA)
		if err != nil {
			return err
		}
		options = append(options, mail.WithTLSConfig(&tls.Config{RootCAs: pool, ServerName: host, MinVersion: tls.VersionTLS12}))
	}
	options = append(options, mail.WithPort(port)) // a policy sets one of its own
	if c := b.credential(b.Mail.Credential); c.Password != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(c.User), mail.WithPassword(c.Password))
	} else if b.Mail.Credential != "" {
		return fmt.Errorf("there is no credential %s; give it with: aditus link credential %s", b.Mail.Credential, b.Mail.Credential)
	}
	letter := mail.NewMsg()
	if err := errors.Join(letter.FromFormat("Aditus, "+b.line, b.From), letter.To(b.To...)); err != nil {
		return refusal{err}
	}
	letter.Subject(plain(b.line + ": " + m.Subject))
	letter.SetMessageIDWithValue(m.ID + "." + strings.ReplaceAll(plain(b.From), "@", ".") + "@aditus")
	letter.SetDate()
	letter.SetBodyString(mail.TypeTextPlain, plainLines(m.Lines))
	to, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	err = to.DialAndSendWithContext(ctx, letter)
	var failed *mail.SendError
	if errors.As(err, &failed) && !failed.IsTemp() {
		return refusal{err}
	}
	return err
}

// plain is a text on one line, of which nothing does harm.
func plain(text string) string {
	return strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if say.Harmful(r) {
			return ' '
		}
		return r
	}, text)), " ")
}

func plainLines(lines []string) string {
	var out strings.Builder
	for _, l := range lines {
		out.WriteString(plain(l) + "\r\n")
	}
	return out.String()
}

type program struct {
	argv []string
	line string
}

// send runs the program, which reads the message as JSON: line, id, subject, lines and facts.
func (p program) send(ctx context.Context, m notice.Message, facts []ledger.Fact) error {
	text, err := json.Marshal(map[string]any{"line": p.line, "id": m.ID, "subject": m.Subject, "lines": m.Lines, "facts": facts})
	if err != nil {
		return refusal{err}
	}
	cmd := exec.CommandContext(ctx, p.argv[0], p.argv[1:]...)
	cmd.Stdin = bytes.NewReader(append(say.JSON(text), '\n'))
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin"}
	cmd.WaitDelay = time.Second
	var said bounded
	cmd.Stdout, cmd.Stderr = io.Discard, &said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w %s", p.argv[0], err, plain(said.String()))
	}
	return nil
}

// bounded keeps the first bytes of what is written to it.
type bounded struct{ bytes.Buffer }

// Write implements io.Writer.
func (b *bounded) Write(p []byte) (int, error) {
	if room := mostAnswer - b.Len(); room > 0 {
		b.Buffer.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}
