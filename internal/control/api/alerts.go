package api

import (
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"aditus/internal/core/alert"
)

// Alerted takes what a source says, and tells what came of each; false where the settings have no such source.
type Alerted interface {
	Alert(ctx context.Context, source string, alerts []alert.Alert) (answers []alert.Answer, known bool, err error)
}

// mostAlerts is how many come at once at most.
const mostAlerts = 500

// Alerts answers POST /alerts/NAME: one alert or several, as JSON (alert.Schema) or as CloudEvents whose data that is. It comes with
// the source's token (Authorization: Bearer), or signed with it: as Standard Webhooks has it, or by the body's HMAC-SHA256 in X-Hub-Signature-256.
type Alerts struct {
	Alerted Alerted
	Secret  func(source string) string // empty where nothing is taken from it
}

// alertsAnswer tells what came of alerts.
type alertsAnswer struct {
	Why    string         `json:"why,omitempty"` // where none could be taken
	Alerts []alert.Answer `json:"alerts,omitempty"`
}

// ServeHTTP implements http.Handler.
func (a *Alerts) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	answer := func(status int, said alertsAnswer) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		write(w, said)
	}
	no := func(status int, format string, args ...any) {
		answer(status, alertsAnswer{Why: fmt.Sprintf(format, args...)})
	}
	source, body, status, why := posted(w, r, "/alerts/", "NAME", "an alert")
	if why != "" {
		no(status, "%s", why)
		return
	}
	if secret := a.Secret(source); secret == "" || !vouched(r.Header, secret, body) { // one answer for both: it does not tell which sources there are
		no(http.StatusForbidden, "neither a token nor a signature is there that fits: send Authorization: Bearer TOKEN, or sign the body")
		return
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	alerts, err := alertsOf(r, body)
	if err != nil {
		no(http.StatusBadRequest, "%v; aditus schema alert prints how an alert is written", err)
		return
	}
	answers, known, err := a.Alerted.Alert(r.Context(), source, alerts)
	switch {
	case err != nil:
		no(http.StatusServiceUnavailable, "it cannot be put on record, and is not taken: %v", err)
	case !known:
		no(http.StatusNotFound, "the settings have no alerts of that name")
	default:
		answer(outcome(answers), alertsAnswer{Alerts: answers})
	}
}

// outcome is the status for what came of alerts: what was taken or known is done with, whatever else came along; what is of nobody here
// was sent to the wrong place, and what is wrong would be wrong again.
func outcome(answers []alert.Answer) int {
	status := http.StatusBadRequest
	for _, a := range answers {
		switch a.Outcome {
		case alert.Taken:
			return http.StatusAccepted
		case alert.Same, alert.Late:
			status = http.StatusOK
		case alert.Unknown:
			if status != http.StatusOK {
				status = http.StatusNotFound
			}
		}
	}
	return status
}

// vouched tells whether something was sent by who has the secret.
func vouched(header http.Header, secret string, body []byte) bool {
	if given, ok := strings.CutPrefix(header.Get("Authorization"), "Bearer "); ok {
		return subtle.ConstantTimeCompare([]byte(strings.TrimSpace(given)), []byte(strings.TrimSpace(secret))) == 1
	}
	if header.Get(standardwebhooks.HeaderWebhookSignature) != "" {
		hook, err := standardwebhooks.NewWebhook(secret)
		return err == nil && hook.Verify(body, header) == nil
	}
	signature := header.Get("X-Hub-Signature-256")
	if signature == "" {
		signature = header.Get("X-Hub-Signature")
	}
	return signed(secret, signature, body)
}

// alertsOf reads the alerts of a request.
func alertsOf(r *http.Request, body []byte) ([]alert.Alert, error) {
	kind := r.Header.Get("Content-Type")
	if strings.HasPrefix(kind, "application/cloudevents") || r.Header.Get("ce-id") != "" || r.Header.Get("ce-specversion") != "" {
		var all []alert.Alert
		events, err := cehttp.NewEventsFromHTTPRequest(r)
		if err != nil {
			one, oneErr := cehttp.NewEventFromHTTPRequest(r)
			if oneErr != nil {
				return nil, fmt.Errorf("it is no CloudEvent: %w", oneErr)
			}
			events = append(events, *one)
		}
		for _, e := range events {
			if err := e.Validate(); err != nil {
				return nil, fmt.Errorf("it is no CloudEvent: %s", strings.Join(strings.Fields(err.Error()), " "))
			}
			alerts, err := readAlerts(e.Data())
			if err != nil {
				return nil, fmt.Errorf("the data of the event %q: %w", e.ID(), err)
			}
			for i := range alerts {
				if alerts[i].Since.IsZero() {
					alerts[i].Since = e.Time()
				}
			}
			if all = append(all, alerts...); len(all) > mostAlerts {
				return nil, fmt.Errorf("more than %d alerts came at once", mostAlerts)
			}
		}
		return all, nil
	}
	return readAlerts(body)
}

// readAlerts reads one alert, or several.
func readAlerts(text []byte) ([]alert.Alert, error) {
	var said struct {
		alert.Alert
		Alerts []alert.Alert `json:"alerts"`
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&said); err != nil {
		return nil, fmt.Errorf("the body is no alert: %w", err)
	}
	if decoder.More() {
		return nil, errors.New("the body goes on after the alert: several are {\"alerts\": […]}")
	}
	switch {
	case said.Alerts == nil:
		return []alert.Alert{said.Alert}, nil
	case len(said.Alerts) == 0 || len(said.Alerts) > mostAlerts:
		return nil, fmt.Errorf("alerts has %d of them: 1 to %d come at once", len(said.Alerts), mostAlerts)
	}
	return said.Alerts, nil
}
