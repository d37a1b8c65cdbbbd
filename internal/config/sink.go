package config

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"text/template"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
	"aditus/internal/core/notice"
	"aditus/internal/dial"
)

// Sink is where notices go to: one of a webhook, mail, a chat and a program.
type Sink struct {
	Name    string   `yaml:"name" jsonschema:"required,pattern=^[^ /]+$"`
	Webhook *Webhook `yaml:"webhook,omitempty" jsonschema_description:"CloudEvents 1.0 over HTTP, signed after the Standard Webhooks specification."`
	Mail    *Mail    `yaml:"mail,omitempty" jsonschema_description:"By SMTP."`
	Chat    *Chat    `yaml:"chat,omitempty" jsonschema_description:"An incoming webhook of a chat."`
	Program []string `yaml:"program,omitempty" jsonschema_description:"A program of this machine with its arguments; it reads a message as JSON."`

	About     []string `yaml:"about,omitempty" jsonschema_description:"What is told: kinds of facts, or patterns of some; what needs a person where it is left out. Where line.yaml has notices for the sink, these count alone."`
	Sites     []string `yaml:"sites,omitempty" jsonschema_description:"Only of these; * stands for any text."`
	Workloads []string `yaml:"workloads,omitempty" jsonschema_description:"Likewise."`
	Quiet     *Quiet   `yaml:"quiet,omitempty" jsonschema_description:"When nothing is told; afterwards all at once."`
	Digest    string   `yaml:"digest,omitempty" jsonschema_description:"A cron expression: all is told at once at these times."`
	Zone      string   `yaml:"zone,omitempty" jsonschema:"default=UTC" jsonschema_description:"The time zone of both."`
}

// Webhook is a program elsewhere that takes events.
type Webhook struct {
	URL        string `yaml:"url" jsonschema:"required"`
	Mode       string `yaml:"mode,omitempty" jsonschema:"enum=structured,enum=binary,default=structured"`
	Credential string `yaml:"credential,omitempty" jsonschema_description:"Its password is the secret to sign with, such as whsec_…; not signed where it is left out."`
	CA         string `yaml:"ca,omitempty" jsonschema_description:"A file of further certificates to trust."`
}

// Mail is a mailbox.
type Mail struct {
	Server     string   `yaml:"server" jsonschema:"required,pattern=:[0-9]+$" jsonschema_description:"HOST:PORT; with TLS from the start at port 465, by STARTTLS at others."`
	From       string   `yaml:"from" jsonschema:"required"`
	To         []string `yaml:"to" jsonschema:"required"`
	Credential string   `yaml:"credential,omitempty" jsonschema_description:"Its user and password."`
	CA         string   `yaml:"ca,omitempty" jsonschema_description:"A file of further certificates to trust."`
	Plain      bool     `yaml:"plain,omitempty" jsonschema:"default=false" jsonschema_description:"Without TLS, on this machine alone."`
}

// Chat is an incoming webhook that takes JSON.
type Chat struct {
	URL        string `yaml:"url,omitempty"`
	Credential string `yaml:"credential,omitempty" jsonschema_description:"Its password is the address, where that is secret."`
	Template   string `yaml:"template,omitempty" jsonschema_description:"The body, as a text/template of Go with .Subject, .Text, .Lines and .Line; json writes a value as JSON."`
}

// Quiet is when nothing is told, by a rule of RFC 5545.
type Quiet struct {
	Starts string `yaml:"starts" jsonschema:"required" jsonschema_description:"The first one, such as 2026-01-01T22:00."`
	Rule   string `yaml:"rule" jsonschema:"required" jsonschema_description:"Such as FREQ=DAILY."`
	Lasts  string `yaml:"lasts" jsonschema:"required" jsonschema_description:"Such as 8h."`
}

// ChatTemplate is what a chat is told where nothing else is said.
const ChatTemplate = `{"text": {{json .Text}}}`

// Notice is what is told to the sink where the line's rules say nothing else.
func (s Sink) Notice() declare.Notice {
	n := declare.Notice{Name: s.Name, To: s.Name, About: s.About, Selector: declare.Selector{Sites: s.Sites, Workloads: s.Workloads}, Digest: s.Digest, Zone: s.Zone}
	if q := s.Quiet; q != nil {
		n.Quiet = &calendar.Times{Zone: s.Zone, Starts: q.Starts, Rule: q.Rule, Lasts: q.Lasts}
	}
	return n
}

// TemplateOf reads the template of a chat.
func (c Chat) TemplateOf(functions template.FuncMap) (*template.Template, error) {
	return template.New("chat").Funcs(functions).Option("missingkey=error").Parse(cmp.Or(c.Template, ChatTemplate))
}

func (s Sink) check() error {
	kinds := 0
	for _, is := range []bool{s.Webhook != nil, s.Mail != nil, s.Chat != nil, len(s.Program) > 0} {
		if is {
			kinds++
		}
	}
	if s.Name == "" || kinds != 1 {
		return errors.New("a sink needs a name, and one of webhook, mail, chat and program")
	}
	if _, err := notice.New(s.Notice(), nil, time.Time{}); err != nil {
		return err
	}
	switch {
	case s.Webhook != nil:
		if s.Webhook.Mode != "" && !slices.Contains([]string{"structured", "binary"}, s.Webhook.Mode) {
			return fmt.Errorf("webhook: mode is structured or binary, not %q", s.Webhook.Mode)
		}
		return checkURL("webhook", s.Webhook.URL)
	case s.Mail != nil:
		host, _, err := net.SplitHostPort(s.Mail.Server)
		if err != nil || s.Mail.From == "" || len(s.Mail.To) == 0 {
			return errors.New("mail: it takes server: HOST:PORT, from and to")
		}
		if s.Mail.Plain && !dial.Loopback(host) {
			return errors.New("mail: plain is for a server on this machine alone")
		}
	case s.Chat != nil:
		if (s.Chat.URL == "") == (s.Chat.Credential == "") {
			return errors.New("chat: it takes one of url and credential")
		}
		if _, err := s.Chat.TemplateOf(template.FuncMap{"json": func(any) string { return "" }}); err != nil {
			return fmt.Errorf("chat: %w", err)
		}
		if s.Chat.URL != "" {
			return checkURL("chat", s.Chat.URL)
		}
	case !filepath.IsAbs(s.Program[0]):
		return fmt.Errorf("program: %q is no program by its whole path", s.Program[0])
	}
	return nil
}

func checkURL(what, text string) error {
	at, err := url.Parse(text)
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http" {
		return fmt.Errorf("%s: %q is no address; write it like https://hooks.skerry.example/aditus", what, text)
	}
	return nil
}
