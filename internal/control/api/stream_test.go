package api

import (
	"bufio"
	"context"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"aditus/internal/control"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/status"
)

// TestLongStream follows events over TCP for longer than a request may take to come: the stream goes on.
func TestLongStream(t *testing.T) {
	before := bodyWait
	bodyWait = 300 * time.Millisecond
	defer func() { bodyWait = before }()
	book, err := ledger.Connect("postgres://aditus@127.0.0.1:1/x", "", nil) // which does not answer, and is not asked
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	standby := control.NewStandby(book, status.Snapshot{Line: "Skerry Line"})
	tokens := OpenTokens(t.TempDir())
	token, err := tokens.Add("wall", []policy.Scope{policy.Look}, time.Time{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	at, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- ServeTCP(ctx, TCP{Address: "127.0.0.1:0"}, New(ctx, standby, tokens, slog.New(slog.DiscardHandler)), func(address string) { at <- address })
	}()
	request, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+<-at+"/v1/events", nil)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	heard := 0
	begun := time.Now()
	for lines := bufio.NewScanner(response.Body); heard < 8 && lines.Scan(); {
		if strings.HasPrefix(lines.Text(), "event: snapshot") {
			heard++
			standby.Saw(ledger.Lead{Server: ledger.Server{Name: strings.Repeat("x", heard)}}) // something new
		}
	}
	if heard < 8 || time.Since(begun) < 3*bodyWait {
		t.Errorf("%d events came in %s, and then none", heard, time.Since(begun))
	}
	cancel()
	if err := <-ended; err != nil {
		t.Error(err)
	}
}
