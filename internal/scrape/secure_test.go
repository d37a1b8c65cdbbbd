package scrape

import (
	"crypto/tls"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
)

// odd is a way that no map can tell from another one.
type odd struct{ _ func() }

func (odd) RoundTrip(*http.Request) (*http.Response, error) { return nil, http.ErrServerClosed }

// TestAccess asks for pages that let in whom they know alone, by https and not.
func TestAccess(t *testing.T) {
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		if r.Header.Get("Authorization") != "Bearer ahoy" && user+"/"+password != "watch/ahoy" && (r.TLS == nil || len(r.TLS.PeerCertificates) == 0) {
			http.Error(w, "who is it?", http.StatusUnauthorized)
			return
		}
		io.WriteString(w, "a 1\n")
	})
	plain, secured := httptest.NewServer(handler), httptest.NewUnstartedServer(handler)
	defer plain.Close()
	secured.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	secured.StartTLS()
	defer secured.Close()
	inPEM := func(kind string, text []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: text}))
	}
	ca := inPEM("CERTIFICATE", secured.Certificate().Raw)
	type access = map[string]string
	with := func(more access) access { more["ca"] = ca; return more }
	s := New()
	defer s.Close()
	for i, test := range []struct {
		scheme, host string
		access       access
		want         string // why not; empty where it is let in
	}{
		{"", "", nil, "status 401: it takes a token"},
		{"", "", access{"token": "ahoy\n"}, ""},
		{"", "", access{"user": "watch", "password": "ahoy"}, ""},
		{"", "", access{"user": "watch", "password": "no"}, "status 401"},
		{"https", "", with(access{"token": "ahoy"}), ""},
		{"https", "", with(access{}), "status 401"},
		{"https", "example.com", with(access{"token": "ahoy"}), ""},
		{"https", "quay.skerry.example", with(access{"token": "ahoy"}), "its certificate is of another name"},
		{"https", "", access{"token": "ahoy"}, "its certificate is not trusted"},
		{"https", "", access{"ca": "none"}, "ca of its secret has no certificate"},
		{"https", "", with(access{"certificate": ca}), "certificate and key of its secret do not belong together"},
	} {
		at := plain
		if test.scheme != "" {
			at = secured
		}
		u, _ := url.Parse(at.URL)
		port, _ := strconv.Atoi(u.Port())
		m := declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}, Scheme: test.scheme, Host: test.host}
		for range 2 { // the second time over the same connection
			page, err := s.Fetch(t.Context(), "127.0.0.1", map[string]int{"http": port}, m, test.access, time.Time{})
			if got := fmt.Sprint(err); test.want == "" && (err != nil || page["a"][0].Value != 1) || test.want != "" && !strings.Contains(got, test.want) {
				t.Errorf("%d: %v, want %q", i+1, err, test.want)
			}
		}
	}
	u, _ := url.Parse(plain.URL)
	port, _ := strconv.Atoi(u.Port())
	m := declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}, Scheme: "https"}
	if _, err := s.Fetch(t.Context(), "127.0.0.1", map[string]int{"http": port}, m, nil, time.Time{}); err == nil || !strings.Contains(err.Error(), "it does not speak https") {
		t.Errorf("one without TLS: %v", err)
	}
	if _, err := s.Through(odd{func() {}}).Fetch(t.Context(), "127.0.0.1", map[string]int{"http": port}, m, nil, time.Time{}); err == nil || !strings.Contains(err.Error(), "https cannot be asked from here") {
		t.Errorf("where HTTP alone goes: %v", err)
	}
	if len(s.secure.clients) != 4 {
		t.Errorf("%d clients are kept", len(s.secure.clients))
	}
}
