package api

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// pushes keeps what it was told.
type pushes []string

func (p *pushes) Pushed(link, branch string, files []string) (known, looks bool) {
	*p = append(*p, fmt.Sprintf("%s %s %v", link, branch, files))
	return link == "line", branch != "other"
}

func sign(secret, body string) string {
	sum := hmac.New(sha256.New, []byte(secret))
	sum.Write([]byte(body))
	return "sha256=" + hex.EncodeToString(sum.Sum(nil))
}

func TestHooks(t *testing.T) {
	told := &pushes{}
	h := &Hooks{Pusher: told, Secret: func(link string) string { return map[string]string{"line": "s3cret", "gone": "s3cret"}[link] }}
	push := `{"ref":"refs/heads/main","commits":[{"added":["a.yaml"],"modified":["b.yaml"],"removed":["c.yaml"]}]}`
	for _, test := range []struct {
		name, method, path, body, signature string
		status                              int
		want                                string // in the answer
		told                                string // to the engine
	}{
		{"a push", "POST", "/hooks/line", push, sign("s3cret", push), 202, `"looks":true`, "line main [a.yaml b.yaml c.yaml]"},
		{"the same again", "POST", "/hooks/line", push, sign("s3cret", push), 409, "was sent before", ""},
		{"the same, spelt otherwise", "POST", "/hooks/line", push, "sha256=" + strings.ToUpper(strings.TrimPrefix(sign("s3cret", push), "sha256=")), 409, "was sent before", ""},
		{"without files", "POST", "/hooks/line", `{"ref":"refs/heads/main"}`, sign("s3cret", `{"ref":"refs/heads/main"}`), 202, `"looks":true`, "line main []"},
		{"without anything", "POST", "/hooks/line", "", sign("s3cret", ""), 202, `"looks":true`, "line  []"},
		{"another branch", "POST", "/hooks/line", `{"ref":"refs/heads/other"}`, sign("s3cret", `{"ref":"refs/heads/other"}`), 202, "not what the link watches", "line other []"},
		{"a tag", "POST", "/hooks/line", `{"ref":"refs/tags/v1"}`, sign("s3cret", `{"ref":"refs/tags/v1"}`), 202, "no branch was pushed", ""},
		{"another secret", "POST", "/hooks/line", "{}", sign("guess", "{}"), 403, "does not fit", ""},
		{"no signature", "POST", "/hooks/line", "{}", "", 403, "does not fit", ""},
		{"another way of signing", "POST", "/hooks/line", "{}", strings.Replace(sign("s3cret", "{}"), "sha256", "sha1", 1), 403, "does not fit", ""},
		{"a link without a secret", "POST", "/hooks/other", "{}", sign("", "{}"), 403, "does not fit", ""},
		{"a link that is gone", "POST", "/hooks/gone", "{}", sign("s3cret", "{}"), 404, "no such link", "gone  []"},
		{"no JSON", "POST", "/hooks/line", "{", sign("s3cret", "{"), 400, "no JSON", ""},
		{"too large", "POST", "/hooks/line", strings.Repeat(" ", maxHook+1), "", 413, "larger than 1 MB", ""},
		{"to be read", "GET", "/hooks/line", "", "", 405, "is a POST", ""},
		{"elsewhere", "POST", "/hooks/line/deeper", "", "", 404, "nothing here", ""},
	} {
		before := len(*told)
		request := httptest.NewRequest(test.method, test.path, strings.NewReader(test.body))
		request.Header.Set("X-Hub-Signature", test.signature)
		answer := httptest.NewRecorder()
		h.ServeHTTP(answer, request)
		heard := strings.Join((*told)[before:], ";")
		if answer.Code != test.status || !strings.Contains(answer.Body.String(), test.want) || heard != test.told {
			t.Errorf("%s: %d %s, told %q; want %d with %q, told %q", test.name, answer.Code, answer.Body, heard, test.status, test.want, test.told)
		}
	}
	begun := time.Now()
	var kept map[string]time.Time
	h.Keep = func(seen map[string]time.Time) { kept = seen }
	for i := range hooksKept + 10 {
		h.first(fmt.Sprint(i), begun.Add(time.Duration(i)*time.Second))
	}
	h.Keep = nil
	again := &Hooks{}
	again.Recall(kept)
	if len(h.seen) > hooksKept || again.first(fmt.Sprint(hooksKept+9), begun) || again.first(fmt.Sprint(20), begun) {
		t.Errorf("%d signatures are remembered, and after a restart not the newest", len(h.seen))
	}
	if again.first("line "+strings.TrimPrefix(sign("s3cret", push), "sha256="), begun) != true {
		t.Error("the oldest is not what was forgotten")
	}
	var _ http.Handler = h
}

// FuzzHooks sends anything that is signed rightly: it is always answered with JSON, and nothing panics.
func FuzzHooks(f *testing.F) {
	f.Add("/hooks/line", []byte(`{"ref":"refs/heads/main","commits":[{"added":["a"]}]}`))
	f.Add("/hooks/", []byte(`{"ref":1}`))
	f.Fuzz(func(t *testing.T, path string, body []byte) {
		h := &Hooks{Pusher: &pushes{}, Secret: func(string) string { return "s3cret" }}
		request := httptest.NewRequest("POST", "/", strings.NewReader(string(body)))
		request.URL.Path = path
		request.Header.Set("X-Hub-Signature-256", sign("s3cret", string(body)))
		answer := httptest.NewRecorder()
		h.ServeHTTP(answer, request)
		if !json.Valid(answer.Body.Bytes()) || answer.Code < 200 {
			t.Fatalf("%d %s", answer.Code, answer.Body)
		}
	})
}
