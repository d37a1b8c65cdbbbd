package api

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/http"
	"strings"
	"sync"
	"time"
)

// Pusher is told of pushes: which link, which branch, which files; nil files where that is not known.
type Pusher interface {
	Pushed(link, branch string, files []string) (known, looks bool)
}

// Limits on webhooks.
const (
	maxHook     = 1 << 20
	hooksKept   = 2_000          // signatures remembered
	replaysKept = 24 * time.Hour // how long
)

// Hooks answers POST /hooks/LINK: a signed word that something was pushed. The body's HMAC-SHA256 stands in the header
// X-Hub-Signature, or X-Hub-Signature-256, as "sha256=HEX", the way of the W3C recommendation WebSub (section 7.1). The
// body is JSON with the reference that was pushed and the files that its commits changed; both may be missing, and the
// link is looked at then.
type Hooks struct {
	Pusher Pusher
	Secret func(link string) string   // empty where webhooks are not wanted for it
	Keep   func(map[string]time.Time) // keeps what was seen over a restart; nil for not

	mu   sync.Mutex
	seen map[string]time.Time // signatures, to refuse what is sent again
}

// Recall takes what was seen before a restart.
func (h *Hooks) Recall(seen map[string]time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.seen = maps.Clone(seen)
}

// push is what is read of a webhook's body.
type push struct {
	Ref     string `json:"ref"`
	Commits []struct {
		Added    []string `json:"added"`
		Modified []string `json:"modified"`
		Removed  []string `json:"removed"`
	} `json:"commits"`
}

// hookAnswer tells what came of a webhook.
type hookAnswer struct {
	Looks bool   `json:"looks"`
	Why   string `json:"why"`
}

// ServeHTTP implements http.Handler.
func (h *Hooks) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	answer := func(status int, looks bool, why string) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		write(w, hookAnswer{looks, why})
	}
	link, body, status, why := posted(w, r, "/hooks/", "LINK", "a webhook")
	if why != "" {
		answer(status, false, why)
		return
	}
	secret := h.Secret(link)
	signature := r.Header.Get("X-Hub-Signature-256")
	if signature == "" {
		signature = r.Header.Get("X-Hub-Signature")
	}
	if secret == "" || !signed(secret, signature, body) { // one answer for both: it does not tell which links there are
		answer(http.StatusForbidden, false, "the signature does not fit")
		return
	}
	if !h.first(link+" "+strings.ToLower(strings.TrimPrefix(signature, "sha256=")), time.Now()) { // however it is spelt
		answer(http.StatusConflict, false, "this was sent before")
		return
	}
	var p push
	if len(bytes.TrimSpace(body)) > 0 && json.Unmarshal(body, &p) != nil {
		answer(http.StatusBadRequest, false, "the body is no JSON")
		return
	}
	branch := ""
	if p.Ref != "" {
		var ok bool
		if branch, ok = strings.CutPrefix(p.Ref, "refs/heads/"); !ok {
			answer(http.StatusAccepted, false, "no branch was pushed")
			return
		}
	}
	known, looks := h.Pusher.Pushed(link, branch, p.files())
	switch {
	case !known:
		answer(http.StatusNotFound, false, "there is no such link")
	case !looks:
		answer(http.StatusAccepted, false, "the branch or the files are not what the link watches")
	default:
		answer(http.StatusAccepted, true, "the link is read now")
	}
}

// posted reads what strangers post under a path, and for whom that is; why tells what is wrong with it, and is empty for nothing.
func posted(w http.ResponseWriter, r *http.Request, under, whom, what string) (name string, body []byte, status int, why string) {
	name, ok := strings.CutPrefix(r.URL.Path, under)
	switch {
	case !ok || name == "" || strings.Contains(name, "/"):
		return "", nil, http.StatusNotFound, "there is nothing here but " + under + whom
	case r.Method != http.MethodPost:
		w.Header().Set("Allow", http.MethodPost)
		return "", nil, http.StatusMethodNotAllowed, what + " is a POST"
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxHook))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return "", nil, http.StatusRequestEntityTooLarge, "the body is larger than 1 MB"
	case err != nil:
		return "", nil, http.StatusBadRequest, "the body cannot be read"
	}
	return name, body, 0, ""
}

// files are all that a push changed; nil where it does not say.
func (p push) files() []string {
	if len(p.Commits) == 0 {
		return nil
	}
	files := []string{}
	for _, c := range p.Commits {
		files = append(append(append(files, c.Added...), c.Modified...), c.Removed...)
	}
	return files
}

func signed(secret, signature string, body []byte) bool {
	given, err := hex.DecodeString(strings.TrimPrefix(signature, "sha256="))
	if err != nil || !strings.HasPrefix(signature, "sha256=") {
		return false
	}
	sum := hmac.New(sha256.New, []byte(secret))
	sum.Write(body)
	return hmac.Equal(given, sum.Sum(nil))
}

// first tells whether a signature was not seen before, and remembers it.
func (h *Hooks) first(signature string, now time.Time) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.seen == nil {
		h.seen = map[string]time.Time{}
	}
	if _, again := h.seen[signature]; again {
		return false
	}
	maps.DeleteFunc(h.seen, func(_ string, at time.Time) bool { return now.Sub(at) > replaysKept })
	if len(h.seen) >= hooksKept { // the oldest is forgotten
		oldest := signature
		for old, at := range h.seen {
			if oldest == signature || at.Before(h.seen[oldest]) {
				oldest = old
			}
		}
		delete(h.seen, oldest)
	}
	h.seen[signature] = now
	if h.Keep != nil {
		h.Keep(maps.Clone(h.seen))
	}
	return true
}
