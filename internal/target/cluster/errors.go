package cluster

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"aditus/internal/core/fault"
	"aditus/internal/target"
)

// longestSaid is how much of what a cluster says is passed on.
const longestSaid = 600

// explain tells in one sentence what was being done, to what, what the cluster said, and what to do.
func explain(err error, verb, kind, namespace, name string) error {
	what := fmt.Sprintf("%s %s %s/%s", verb, kind, namespace, name)
	said, advice := why(err, namespace)
	if advice != "" {
		advice = "; " + advice
	}
	return fmt.Errorf("%s: %w", what, &refusal{said + advice, err})
}

// refusal is what a cluster said, in our words, with its own error beneath.
type refusal struct {
	text string
	err  error
}

func (r *refusal) Error() string { return r.text }
func (r *refusal) Unwrap() error { return r.err }

// why puts what a cluster said in words, and says what to do.
func why(err error, namespace string) (said, advice string) {
	var status apierrors.APIStatus
	if !errors.As(err, &status) {
		return whyNot(err)
	}
	message := short(status.Status().Message)
	switch {
	case apierrors.IsUnauthorized(err):
		return "the cluster does not know the account any more", "renew its credentials in the kubeconfig"
	case apierrors.HasStatusCause(err, "NamespaceTerminating") || strings.Contains(message, "because it is being terminated"):
		return fmt.Sprintf("the namespace %s is being deleted", namespace), "wait until it is gone, or give the site another namespace"
	case strings.Contains(message, "exceeded quota"), strings.Contains(message, "violates PodSecurity"), strings.Contains(message, "admission webhook") && strings.Contains(message, "denied"):
		return sayRefused(message)
	case apierrors.IsForbidden(err) && strings.Contains(message, " cannot "):
		return "the account may not: " + after(message, "is forbidden: "), "give it that right; docs/cluster-sites.md has the whole Role"
	case apierrors.IsForbidden(err):
		return message, ""
	case apierrors.IsNotFound(err) && (strings.Contains(message, "the server could not find the requested resource") || status.Status().Details == nil):
		return "the cluster does not have this kind of object", "install its definition, or take it out of the declaration"
	case apierrors.IsNotFound(err) && status.Status().Details.Kind == "namespaces":
		return fmt.Sprintf("there is no namespace %s", namespace), "make it, or let the account make namespaces"
	case apierrors.IsConflict(err):
		if fields := conflicts(status.Status()); fields != "" {
			return "others look after fields of it: " + fields, "leave these to them with leave:, or take them out there"
		}
		return "it changed in between: " + message, "it is tried again"
	case apierrors.IsInvalid(err):
		return "the cluster cannot accept it: " + causes(status.Status(), message), "mend that in the declaration"
	case apierrors.IsTooManyRequests(err):
		return "the cluster has too much to do now", "it is tried again later"
	case apierrors.IsResourceExpired(err) || apierrors.IsGone(err):
		return "the cluster does not remember that far back", "it is read anew"
	case apierrors.IsTimeout(err) || apierrors.IsServerTimeout(err) || apierrors.IsServiceUnavailable(err):
		return "the cluster cannot answer now: " + message, "it is tried again"
	}
	return message, ""
}

// sayRefused puts in words what a cluster says that admits something not.
func sayRefused(message string) (said, advice string) {
	switch message = short(message); {
	case strings.Contains(message, "exceeded quota"):
		return "there is no room in the namespace's quota: " + after(message, "exceeded quota: "), "raise the quota, or ask for less"
	case strings.Contains(message, "violates PodSecurity"):
		return "the namespace's security standard refuses it: " + after(message, "violates PodSecurity "), "declare user: with a number other than 0, or change the namespace's standard"
	case strings.Contains(message, "admission webhook"):
		return "its admission refuses it: " + message, "mend what it names, in the declaration"
	}
	return message, ""
}

// whyNot is for what never came to an answer.
func whyNot(err error) (said, advice string) {
	var expired x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	var op *net.OpError
	var address *url.Error
	switch {
	case errors.As(err, &expired) && expired.Reason == x509.Expired:
		return "the cluster's certificate has run out, or is not valid yet", "renew it, or set this machine's clock right"
	case strings.Contains(err.Error(), "tls: expired certificate"):
		return "the account's certificate has run out", "renew it in the kubeconfig"
	case errors.As(err, &unknown):
		return "the cluster's certificate is signed by somebody unknown", "write its authority into the kubeconfig"
	case strings.Contains(err.Error(), "client rate limiter"):
		return fmt.Sprintf("more is to be done there at once than the %d requests a second that Aditus allows itself", requestsPerSecond), "it goes on by itself"
	case errors.Is(err, context.DeadlineExceeded):
		return "the cluster did not answer in time", "it is tried again"
	case errors.As(err, &op):
		return "the cluster cannot be reached: " + strings.TrimPrefix(op.Err.Error(), "connect: "), "it is tried again"
	case errors.As(err, &address):
		return short(address.Err.Error()), ""
	}
	return short(err.Error()), ""
}

// conflicts names the fields that others look after, and who.
func conflicts(s metav1.Status) string {
	if s.Details == nil {
		return ""
	}
	var found []string
	for _, cause := range s.Details.Causes {
		if cause.Type == metav1.CauseTypeFieldManagerConflict {
			found = append(found, strings.TrimPrefix(cause.Field, ".")+" ("+strings.TrimPrefix(cause.Message, "conflict with ")+")")
		}
	}
	return short(strings.Join(found, ", "))
}

// causes names what is wrong by field.
func causes(s metav1.Status, otherwise string) string {
	if s.Details == nil || len(s.Details.Causes) == 0 {
		return otherwise
	}
	var found []string
	for _, cause := range s.Details.Causes {
		found = append(found, cause.Field+": "+cause.Message)
	}
	return short(strings.Join(found, ", "))
}

func after(text, mark string) string {
	if _, rest, ok := strings.Cut(text, mark); ok {
		return rest
	}
	return text
}

func short(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > longestSaid {
		text = strings.ToValidUTF8(text[:longestSaid], "") + " …"
	}
	return text
}

// unreachable is why a site is not known as it is now.
func unreachable(site string, err error) error {
	if errors.Is(err, errNotYet) {
		return fault.New(fault.ErrUnreachable, "%s: %w: its objects are being read", site, target.ErrUnreachable)
	}
	said, advice := why(err, "")
	if advice != "" {
		said += "; " + advice
	}
	return fault.New(fault.ErrUnreachable, "%s: %w: %s", site, target.ErrUnreachable, said)
}
