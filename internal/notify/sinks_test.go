package notify

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"aditus/internal/config"
	"aditus/internal/core/notice"
	"aditus/internal/ledger"
	"aditus/internal/source"
)

const secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"

var rolledBack = ledger.Fact{Seq: 7, At: time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC), Workload: "fares", Site: "north", Kind: "rolled back", By: "aditus", Revision: "abc", Text: "it breached\u202e \x1b[2J"}

func credentials(name string) source.Credential {
	return map[string]source.Credential{"pager": {Password: secret}, "crew": {User: "aditus", Password: "right"}}[name]
}

// certificate writes the certificate of a server of httptest to a file, and gives its configuration.
func certificate(t *testing.T) (file string, own *tls.Config) {
	t.Helper()
	server := httptest.NewTLSServer(http.NotFoundHandler())
	defer server.Close()
	file = filepath.Join(t.TempDir(), "ca.pem")
	if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	return file, &tls.Config{Certificates: server.TLS.Certificates}
}

// TestWebhook tells a webhook in both modes, and has it read and verified with the libraries of both specifications.
func TestWebhook(t *testing.T) {
	type came struct {
		event, id string
		err       error
		body      string
	}
	var got []came
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		key, err := standardwebhooks.NewWebhook(secret)
		if err == nil {
			err = key.Verify(body, r.Header)
		}
		r.Body = io.NopCloser(strings.NewReader(string(body)))
		e, err2 := binding.ToEvent(r.Context(), cehttp.NewMessageFromHttpRequest(r))
		if e == nil {
			t.Errorf("no event: %v", err2)
			return
		}
		got = append(got, came{strings.Join([]string{e.SpecVersion(), e.ID(), e.Source(), e.Type(), e.Subject(), e.DataContentType()}, " "), r.Header.Get("webhook-id"), errors.Join(err, err2, e.Validate()), string(e.Data())})
	}))
	defer server.Close()
	ca, _ := certificate(t)
	for _, mode := range []string{"structured", "binary"} {
		got = nil
		s := config.Sink{Name: "pager", Webhook: &config.Webhook{URL: server.URL + "/hook?x=1", Mode: mode, Credential: "pager", CA: ca}}
		to, each := open(s, "Skerry Line", credentials)
		m := notice.Of([]notice.Item{itemOf(rolledBack)})
		for range 2 { // told twice, it has the same name
			if err := to.send(t.Context(), m, []ledger.Fact{rolledBack}); err != nil || !each {
				t.Fatal(err)
			}
		}
		if len(got) != 2 || got[0].err != nil || got[0].id != got[1].id || got[0].event != "1.0 7 /lines/Skerry%20Line example.aditus.fact.rolled-back fares/north application/json" {
			t.Fatalf("%s: %+v", mode, got)
		}
		var f ledger.Fact
		if err := json.Unmarshal([]byte(got[0].body), &f); err != nil || f.Seq != 7 || strings.ContainsAny(got[0].body, "\u202e\x1b") {
			t.Errorf("%s: the fact is %q (%v)", mode, got[0].body, err)
		}
		for what, change := range map[string]func(*config.Webhook){"no credential": func(w *config.Webhook) { w.Credential = "lost" }, "an unknown certificate": func(w *config.Webhook) { w.CA = "" }} {
			own := *s.Webhook
			change(&own)
			to, _ := open(config.Sink{Webhook: &own}, "Skerry Line", credentials)
			if err := to.send(t.Context(), m, []ledger.Fact{rolledBack}); err == nil || strings.Contains(err.Error(), "x=1") {
				t.Errorf("%s: %v", what, err)
			}
		}
	}
}

// TestAnswers has a receiver answer in every way: what is refused, what is later, and what is tried again.
func TestAnswers(t *testing.T) {
	code, wait := 200, ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Location", "http://127.0.0.1:1/elsewhere")
		w.Header().Set("Retry-After", wait)
		w.WriteHeader(code)
		io.WriteString(w, strings.Repeat("x\x1b", 1<<20))
	}))
	defer server.Close()
	to, _ := open(config.Sink{Chat: &config.Chat{URL: server.URL}}, "Skerry Line", nil)
	m := notice.Of([]notice.Item{itemOf(rolledBack)})
	for _, test := range []struct {
		code    int
		wait    string
		fine    bool
		refused bool
		after   time.Duration
	}{{200, "", true, false, 0}, {204, "", true, false, 0}, {302, "", false, true, 0}, {400, "", false, true, 0}, {410, "", false, true, 0}, {408, "", false, false, 0}, {500, "", false, false, 0}, {503, "7", false, false, 7 * time.Second}, {429, "999999", false, false, time.Hour}, {429, "soon", false, false, 0}} {
		code, wait = test.code, test.wait
		err := to.send(t.Context(), m, nil)
		asked := later{}
		errors.As(err, &asked)
		if (err == nil) != test.fine || errors.As(err, new(refusal)) != test.refused || asked.after != test.after || err != nil && (len(err.Error()) > 300 || strings.Contains(err.Error(), "\x1b")) {
			t.Errorf("status %d: %v", test.code, err)
		}
	}
	for what, template := range map[string]string{`{"text": {{json .Text}}, "to": "#x"}`: "", `{"text": "{{.Text}}"}`: "its template makes no JSON", `{{.Nothing}}`: "map has no entry"} {
		code = 200
		to, _ := open(config.Sink{Chat: &config.Chat{URL: server.URL, Template: what}}, "Skerry Line", nil)
		if err := to.send(t.Context(), m, nil); template == "" && err != nil || template != "" && (err == nil || !strings.Contains(err.Error(), template)) {
			t.Errorf("the template %s: %v", what, err)
		}
	}
}

// post is a mail server that wants TLS and a password.
type office struct {
	mu     sync.Mutex
	mails  []string
	refuse error
}

type visit struct {
	*office
	let bool
}

func (o *office) NewSession(*smtp.Conn) (smtp.Session, error) { return &visit{office: o}, nil }
func (v *visit) AuthMechanisms() []string                     { return []string{sasl.Plain} }
func (v *visit) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if v.let = user == "aditus" && password == "right"; !v.let {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}
func (v *visit) Mail(string, *smtp.MailOptions) error {
	if !v.let {
		return smtp.ErrAuthRequired
	}
	return v.refuse
}
func (v *visit) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (v *visit) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	v.mu.Lock()
	defer v.mu.Unlock()
	v.mails = append(v.mails, string(text))
	return err
}
func (v *visit) Reset()        {}
func (v *visit) Logout() error { return nil }

// TestMail sends mail by STARTTLS to a server that wants a password: with the right one and certificate, and with each of them wrong.
func TestMail(t *testing.T) {
	o := &office{}
	ca, own := certificate(t)
	server := smtp.NewServer(o)
	server.TLSConfig, server.Domain = own, "example.com"
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go server.Serve(listener)
	defer server.Close()
	m := notice.Of([]notice.Item{itemOf(rolledBack)})
	m.Subject += "\r\nBcc: everybody@skerry.example"
	to := func(change func(*config.Mail)) error {
		s := &config.Mail{Server: listener.Addr().String(), From: "aditus@skerry.example", To: []string{"crew@skerry.example", "lead@skerry.example"}, Credential: "crew", CA: ca}
		change(s)
		one, _ := open(config.Sink{Mail: s}, "Skerry Line", credentials)
		return one.send(t.Context(), m, nil)
	}
	if err := to(func(*config.Mail) {}); err != nil {
		t.Fatal(err)
	}
	if len(o.mails) != 1 || !strings.Contains(o.mails[0], "Subject: Skerry Line: fares at north: rolled back Bcc:") || !strings.Contains(o.mails[0], "fares at north: it breached") || strings.ContainsAny(o.mails[0], "\x1b\u202e") || strings.Contains(o.mails[0], "\nBcc:") {
		t.Errorf("the mail is %q", o.mails)
	}
	for what, change := range map[string]func(*config.Mail){
		"no password":            func(m *config.Mail) { m.Credential = "" },
		"a wrong one":            func(m *config.Mail) { m.Credential = "pager" },
		"an unknown certificate": func(m *config.Mail) { m.CA = "" },
	} {
		if err := to(change); err == nil || strings.Contains(err.Error(), "right") {
			t.Errorf("%s: %v", what, err)
		}
	}
	o.refuse = &smtp.SMTPError{Code: 550, Message: "no such sender"}
	if err := to(func(*config.Mail) {}); !errors.As(err, new(refusal)) {
		t.Errorf("refused: %v", err)
	}
	o.refuse = &smtp.SMTPError{Code: 451, Message: "later"}
	if err := to(func(*config.Mail) {}); err == nil || errors.As(err, new(refusal)) {
		t.Errorf("refused for now: %v", err)
	}
	if len(o.mails) != 1 {
		t.Errorf("%d mails came", len(o.mails))
	}
}

// TestProgram runs a program, which reads the message; one that fails, and one that hangs.
func TestProgram(t *testing.T) {
	out := filepath.Join(t.TempDir(), "out")
	m := notice.Of([]notice.Item{itemOf(rolledBack)})
	run := func(ctx context.Context, script string) error {
		to, each := open(config.Sink{Program: []string{"/bin/sh", "-c", script}}, "Skerry Line", nil)
		if each {
			t.Error("a program is told each by itself")
		}
		return to.send(ctx, m, []ledger.Fact{rolledBack})
	}
	if err := run(t.Context(), "cat > "+out+"; env >> "+out); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(out)
	first, rest, _ := strings.Cut(string(text), "\n")
	var told struct {
		Line, ID, Subject string
		Facts             []ledger.Fact
	}
	if err := errors.Join(err, json.Unmarshal([]byte(first), &told)); err != nil || told.Line != "Skerry Line" || told.ID != "7" || told.Facts[0].Seq != 7 || strings.Contains(rest, "HOME=") {
		t.Errorf("it read %q (%v)", text, err)
	}
	if err := run(t.Context(), "echo no paper >&2; exit 3"); err == nil || !strings.Contains(err.Error(), "exit status 3 no paper") {
		t.Errorf("it failed: %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := run(ctx, "sleep 60"); err == nil {
		t.Error("one that hangs is fine")
	}
}

// TestTest tells a sink of a test.
func TestTest(t *testing.T) {
	var body string
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		body = string(text)
	}))
	defer server.Close()
	s := config.Sink{Name: "chat", Chat: &config.Chat{URL: server.URL}}
	if err := Test(t.Context(), s, "Skerry Line", nil, "maren"); err != nil || !strings.Contains(body, "a test of the sink chat, asked for by maren") {
		t.Errorf("%q (%v)", body, err)
	}
}
