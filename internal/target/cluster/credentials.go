package cluster

import (
	"fmt"
	"net/http"
	"os"
	"strings"

	"k8s.io/client-go/rest"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
)

// credentials is the command of a kubeconfig that gives the account's credentials. What it writes of its troubles is kept off
// the screen and told as why the site is silent; it is given no input, and a minute.
type credentials struct {
	command string
	said    string // a file with what it wrote last
}

// runsCredentials runs the command, where there is one, in a shell that keeps what it writes.
const runsCredentials = `command -v timeout >/dev/null && exec timeout 60 "$0" "$@" 2>"$ADITUS_CREDENTIALS_SAID"; exec "$0" "$@" 2>"$ADITUS_CREDENTIALS_SAID"`

// withCredentials has a connection's command for credentials run so; it gives nil where there is none.
func withCredentials(config *rest.Config) (*credentials, error) {
	if config.ExecProvider == nil {
		return nil, nil
	}
	said, err := os.CreateTemp("", "aditus-credentials-")
	if err != nil {
		return nil, fmt.Errorf("keep what the command for credentials writes: %w", err)
	}
	said.Close()
	how := config.ExecProvider.DeepCopy()
	c := &credentials{command: how.Command, said: said.Name()}
	how.Args = append([]string{"-c", runsCredentials, how.Command}, how.Args...)
	how.Command = "/bin/sh"
	how.Env = append(how.Env, clientcmdapi.ExecEnvVar{Name: "ADITUS_CREDENTIALS_SAID", Value: said.Name()})
	how.StdinUnavailable, how.StdinUnavailableMessage = true, "Aditus runs it in the background"
	config.ExecProvider = how
	return c, nil
}

// telling has requests that fail for want of credentials say what the command wrote.
func (c *credentials) telling(next http.RoundTripper) http.RoundTripper {
	return roundTripper(func(r *http.Request) (*http.Response, error) {
		response, err := next.RoundTrip(r)
		if err == nil || !strings.Contains(err.Error(), "getting credentials: ") {
			return response, err
		}
		text, _ := os.ReadFile(c.said)
		why := lastLine(string(text))
		if why == "" {
			_, why, _ = strings.Cut(err.Error(), "getting credentials: ")
		}
		return nil, fmt.Errorf("the command %s, which gives the account's credentials, fails: %s; run it by hand to see what it wants", c.command, short(why))
	})
}

// forget takes away what the command wrote.
func (c *credentials) forget() {
	if c != nil {
		os.Remove(c.said)
	}
}

type roundTripper func(*http.Request) (*http.Response, error)

// RoundTrip implements http.RoundTripper.
func (f roundTripper) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }
