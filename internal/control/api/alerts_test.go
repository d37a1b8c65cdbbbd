package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"aditus/internal/core/alert"
)

// alarms keeps what it was told.
type alarms []string

func (a *alarms) Alert(_ context.Context, source string, said []alert.Alert) (answers []alert.Answer, known bool, err error) {
	if source == "broken" {
		return nil, true, errors.New("the disk is full")
	}
	for _, s := range said {
		*a = append(*a, fmt.Sprintf("%s %s %s %s %v", source, s.ID, s.State, s.Since.UTC().Format(time.TimeOnly), s.Labels))
		answers = append(answers, alert.Answer{ID: s.ID, Outcome: alert.Outcome(s.Labels["gives"])})
	}
	return answers, source != "gone", nil
}

func TestAlerts(t *testing.T) {
	const secret = "whsec_c2tlcnJ5IGxpbmUgZGVja2hhbmQ="
	told := &alarms{}
	h := &Alerts{Alerted: told, Secret: func(source string) string {
		return map[string]string{"pager": secret, "gone": secret, "broken": secret}[source]
	}}
	one := func(id, gives string) string {
		return fmt.Sprintf(`{"id":%q,"state":"firing","since":"2026-03-12T09:00:00Z","labels":{"gives":%q},"text":"x"}`, id, gives)
	}
	event := func(data string) string {
		return `{"specversion":"1.0","id":"7","source":"/pager","type":"example.skerry.alert","time":"2026-03-12T10:00:00Z","datacontenttype":"application/json","data":` + data + `}`
	}
	token := map[string]string{"Authorization": "Bearer " + secret}
	with := func(more ...string) map[string]string {
		headers := map[string]string{"Authorization": "Bearer " + secret}
		for i := 0; i < len(more); i += 2 {
			headers[more[i]] = more[i+1]
		}
		return headers
	}
	hook, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		t.Fatal(err)
	}
	standard := func(body string, at time.Time) map[string]string {
		signature, err := hook.Sign("1", at, []byte(body))
		if err != nil {
			t.Fatal(err)
		}
		return map[string]string{standardwebhooks.HeaderWebhookID: "1", standardwebhooks.HeaderWebhookTimestamp: strconv.FormatInt(at.Unix(), 10), standardwebhooks.HeaderWebhookSignature: signature}
	}
	body := one("a", "taken")
	for _, test := range []struct {
		name, method, path, body string
		headers                  map[string]string
		status                   int
		want, told               string // in the answer; to the engine, the last one
		valid                    bool   // by the schema
	}{
		{"with a token", "POST", "/alerts/pager", body, token, 202, `"outcome":"taken"`, "pager a firing 09:00:00 map[gives:taken]", true},
		{"signed", "POST", "/alerts/pager", body, map[string]string{"X-Hub-Signature-256": sign(secret, body)}, 202, `"taken"`, "pager a firing", true},
		{"signed as a standard webhook", "POST", "/alerts/pager", body, standard(body, time.Now()), 202, `"taken"`, "pager a firing", true},
		{"signed long ago", "POST", "/alerts/pager", body, standard(body, time.Now().Add(-time.Hour)), 403, "neither a token nor a signature", "", true},
		{"several", "POST", "/alerts/pager", `{"alerts":[` + one("b", "unknown") + "," + one("c", "late") + `]}`, token, 200, `"late"`, "pager c firing", true},
		{"nobody's", "POST", "/alerts/pager", one("d", "unknown"), token, 404, `"unknown"`, "pager d firing", true},
		{"wrong", "POST", "/alerts/pager", one("e", "wrong"), token, 400, `"wrong"`, "pager e firing", true},
		{"an event", "POST", "/alerts/pager", event(one("f", "taken")), with("Content-Type", "application/cloudevents+json"), 202, `"f"`, "pager f firing 09:00:00", false},
		{"an event without a since", "POST", "/alerts/pager", event(`{"id":"g","state":"resolved","labels":{"gives":"taken"}}`), with("Content-Type", "application/cloudevents+json"), 202, `"g"`, "pager g resolved 10:00:00", false},
		{"events", "POST", "/alerts/pager", "[" + event(one("h", "taken")) + "," + event(one("i", "same")) + "]", with("Content-Type", "application/cloudevents-batch+json"), 202, `"i"`, "pager i firing", false},
		{"a binary event", "POST", "/alerts/pager", one("j", "taken"), with("Content-Type", "application/json", "ce-specversion", "1.0", "ce-id", "1", "ce-source", "/x", "ce-type", "a.b"), 202, `"j"`, "pager j firing", true},
		{"half an event", "POST", "/alerts/pager", one("k", "taken"), with("Content-Type", "application/json", "ce-specversion", "1.0", "ce-id", "1"), 400, "no CloudEvent", "", true},
		{"a wrong token", "POST", "/alerts/pager", body, map[string]string{"Authorization": "Bearer guess"}, 403, "neither a token nor a signature", "", true},
		{"nothing", "POST", "/alerts/pager", body, nil, 403, "neither a token nor a signature", "", true},
		{"a source that nobody listed", "POST", "/alerts/other", body, map[string]string{"Authorization": "Bearer "}, 403, "neither a token nor a signature", "", true},
		{"one that is gone", "POST", "/alerts/gone", body, token, 404, "no alerts of that name", "gone a firing", true},
		{"a full disk", "POST", "/alerts/broken", body, token, 503, "the disk is full", "", true},
		{"no JSON", "POST", "/alerts/pager", "{", token, 400, "aditus schema alert prints", "", false},
		{"another key", "POST", "/alerts/pager", strings.Replace(body, "labels", "lables", 1), token, 400, "lables", "", false},
		{"two behind each other", "POST", "/alerts/pager", body + body, token, 400, "goes on after the alert", "", false},
		{"none", "POST", "/alerts/pager", `{"alerts":[]}`, token, 400, "1 to 500 come at once", "", false},
		{"too many", "POST", "/alerts/pager", `{"alerts":[` + strings.Repeat(one("l", "taken")+",", 500) + one("m", "taken") + `]}`, token, 400, "1 to 500 come at once", "", false},
		{"too large", "POST", "/alerts/pager", strings.Repeat(" ", maxHook+1), token, 413, "larger than 1 MB", "", false},
		{"to be read", "GET", "/alerts/pager", "", token, 405, "is a POST", "", false},
		{"elsewhere", "POST", "/alerts/pager/deeper", body, token, 404, "nothing here", "", true},
	} {
		before := len(*told)
		request := httptest.NewRequest(test.method, test.path, strings.NewReader(test.body))
		for name, value := range test.headers {
			request.Header.Set(name, value)
		}
		answer := httptest.NewRecorder()
		h.ServeHTTP(answer, request)
		last := ""
		if len(*told) > before {
			last = (*told)[len(*told)-1]
		}
		if answer.Code != test.status || !strings.Contains(answer.Body.String(), test.want) || !strings.HasPrefix(last, test.told) || test.told == "" && last != "" || strings.Contains(answer.Body.String(), secret) {
			t.Errorf("%s: %d %s, told %q; want %d with %s and %q", test.name, answer.Code, answer.Body, last, test.status, test.want, test.told)
		}
		if valid := schemaTakes(t, test.body); valid != test.valid {
			t.Errorf("%s: the schema takes it: %v", test.name, valid)
		}
	}
}

// schemaTakes tells whether the schema of alerts takes a body.
func schemaTakes(t *testing.T, body string) bool {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(alert.Schema)))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("alert.json", document); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("alert.json")
	if err != nil {
		t.Fatal(err)
	}
	var value any
	return json.Unmarshal([]byte(body), &value) == nil && schema.Validate(value) == nil
}

// FuzzAlerts sees that nothing a stranger sends ends the server, and that what is read is bounded.
func FuzzAlerts(f *testing.F) {
	f.Add(`{"id":"a","state":"firing","since":"2026-03-12T09:00:00Z","labels":{"service":"web"}}`)
	f.Add(`{"alerts":[{"id":"a"}]}`)
	f.Fuzz(func(t *testing.T, body string) {
		alerts, err := readAlerts([]byte(body))
		if err == nil && (len(alerts) == 0 || len(alerts) > mostAlerts) {
			t.Errorf("%d alerts of %q", len(alerts), body)
		}
		var book alert.Book
		for _, a := range alerts {
			answer, is := book.Take(alert.Source{Name: "pager", Workload: "service"}, a, func(string) ([]string, bool) { return nil, true }, time.Unix(1_790_000_000, 0))
			if answer.Why == "" || (is != nil) != (answer.Outcome == alert.Taken) {
				t.Errorf("%+v of %q", answer, body)
			}
		}
	})
}
