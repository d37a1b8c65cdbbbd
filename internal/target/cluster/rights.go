package cluster

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"sigs.k8s.io/yaml"

	"aditus/internal/config"
	"aditus/internal/core/say"
)

// right is what the account must be allowed to do in a site's namespace.
type right struct {
	Group, Resource string
	Verbs           []string
	Route           bool   // only where the cluster has Gateway API
	Without         string // what is not possible without it, where the rest is; empty where nothing is
}

var (
	all  = []string{"get", "list", "watch", "create", "patch", "delete"}
	look = []string{"list", "watch"}
)

// rights are all of them. The Role in the docs is made from them.
var rights = []right{
	{"", "configmaps", all, false, ""},
	{"", "secrets", all, false, ""},
	{"", "services", all, false, ""},
	{"", "persistentvolumeclaims", all, false, ""},
	{"", "pods", []string{"list", "watch", "patch", "delete"}, false, ""},
	{"", "events", look, false, ""},
	{"apps", "deployments", all, false, ""},
	{"apps", "statefulsets", all, false, ""},
	{"batch", "jobs", all, false, ""},
	{"discovery.k8s.io", "endpointslices", look, true, ""},
	{gatewayGroup, "httproutes", all, true, ""},
	{gatewayGroup, "grpcroutes", all, true, "routes with protocol: grpc"},
	{gatewayGroup, "gateways", look, true, "a target without gateway: needs it"},
	{"apps", "replicasets", look, false, "parts of kind objects; the kinds of their objects that do not stand here need all verbs too"},
	{"", "pods/log", []string{"get"}, false, "logs"},
	{"", "pods/exec", []string{"get", "create"}, false, "commands in instances"},
	{"", "pods/proxy", []string{"get"}, false, "metrics of instances whose addresses cannot be reached from here"},
	{"metrics.k8s.io", "pods", []string{"list"}, false, "what instances use of memory and processor"},
	{"", "resourcequotas", []string{"list"}, false, "how much room its quotas leave"},
}

// Role is the Role with all rights that a site needs, as an object of the API.
func Role(namespace, name string) map[string]any {
	var rules []any
	for _, r := range rights {
		var verbs []any
		for _, verb := range r.Verbs {
			verbs = append(verbs, verb)
		}
		rules = append(rules, object{"apiGroups": []any{r.Group}, "resources": []any{r.Resource}, "verbs": verbs})
	}
	return object{"apiVersion": "rbac.authorization.k8s.io/v1", "kind": "Role", "metadata": object{"name": name, "namespace": namespace}, "rules": rules}
}

// RoleText is that Role as YAML, with a comment for each right that may be left out.
func RoleText(namespace, name string) string {
	text := fmt.Sprintf("apiVersion: rbac.authorization.k8s.io/v1\nkind: Role\nmetadata: {name: %s, namespace: %s}\nrules:\n", name, namespace)
	for _, r := range rights {
		line, _ := yaml.Marshal(r.Group)
		text += fmt.Sprintf("  - {apiGroups: [%s], resources: [%s], verbs: [%s]}", strings.TrimSpace(string(line)), r.Resource, strings.Join(r.Verbs, ", "))
		switch {
		case r.Without != "":
			text += " # " + r.Without
		case r.Route:
			text += " # with Gateway API"
		}
		text += "\n"
	}
	return text
}

// rule is one of those that a cluster says apply to an account.
type rule struct {
	Verbs, APIGroups, Resources, ResourceNames []string
}

func (r rule) allows(group, resource, verb string) bool {
	has := func(list []string, one string) bool { return slices.Contains(list, one) || slices.Contains(list, "*") }
	return has(r.APIGroups, group) && has(r.Resources, resource) && has(r.Verbs, verb) && len(r.ResourceNames) == 0
}

// lacking are the rights that rules do not give: those without which nothing is possible, and what else is not.
func lacking(rules []rule, gateway bool) (must, may []string) {
	for _, r := range rights {
		if r.Route && !gateway {
			continue
		}
		var verbs []string
		for _, verb := range r.Verbs {
			if !slices.ContainsFunc(rules, func(rule rule) bool { return rule.allows(r.Group, r.Resource, verb) }) {
				verbs = append(verbs, verb)
			}
		}
		if len(verbs) == 0 {
			continue
		}
		lacks := strings.Join(verbs, ", ") + " " + r.Resource
		if r.Without != "" {
			may = append(may, lacks+" ("+r.Without+")")
		} else {
			must = append(must, lacks)
		}
	}
	return must, may
}

// try asks a cluster what it is and what the account may do there, and tells it line by line. It changes nothing.
func try(ctx context.Context, t config.Target) ([]string, error) {
	settings, name, err := Address{t.Kubeconfig, t.Context}.load()
	if err != nil {
		return nil, err
	}
	c, err := Connect(settings, name)
	if err != nil {
		return nil, err
	}
	defer c.asked.forget()
	_, told, err := c.about(ctx, name, t.Namespace)
	return told, err
}

// longestVersion is how much is told of what a cluster says that it is.
const longestVersion = 64

// about tells which version of its API a cluster has, and what the account may do in a namespace.
func (c *Connection) about(ctx context.Context, name, namespace string) (is string, told []string, err error) {
	began := time.Now()
	var version struct{ GitVersion string }
	if err := c.read(ctx, "/version", &version); err != nil {
		return "", nil, advised(err, namespace)
	}
	is = version.GitVersion[:min(len(version.GitVersion), longestVersion)]
	took := time.Since(began)
	gateway, err := c.serves(ctx, gatewayGroup, "v1", routes.Resource)
	if err != nil {
		return is, told, advised(err, namespace)
	}
	routed := "it has no Gateway API, so that the numbers of instances are the split of the traffic"
	if gateway {
		routed = "it has Gateway API, so that routes split the traffic"
	}
	if ahead := time.Duration(c.ahead.Load()); ahead != 0 {
		told = append(told, fmt.Sprintf("its clock is %s apart from this machine's: set one of them right", say.Span(ahead.Abs())))
	}
	told = append(told, fmt.Sprintf("the cluster %s, %s, answers in %s; %s", name, version.GitVersion, say.Took(took), routed))
	switch err := c.read(ctx, "/api/v1/namespaces/"+namespace, nil); {
	case apierrors.IsNotFound(err) && c.may(ctx, "create", of("", "v1", "namespaces", "Namespace"), ""):
		return is, append(told, fmt.Sprintf("the namespace %s is not there yet; it is made when Aditus starts", namespace)), nil
	case apierrors.IsNotFound(err):
		return is, told, fmt.Errorf("there is no namespace %s, and the account may not make it: make it, or let the account", namespace)
	case err != nil && !apierrors.IsForbidden(err):
		return is, told, advised(err, namespace)
	}
	var answer struct {
		Status struct {
			ResourceRules   []rule
			Incomplete      bool
			EvaluationError string
		}
	}
	review := object{"apiVersion": "authorization.k8s.io/v1", "kind": "SelfSubjectRulesReview", "spec": object{"namespace": namespace}}
	if err := c.ask(ctx, http.MethodPost, "/apis/authorization.k8s.io/v1/selfsubjectrulesreviews", review, &answer); err != nil {
		return is, told, advised(err, namespace)
	}
	must, may := lacking(answer.Status.ResourceRules, gateway)
	switch {
	case len(must) > 0 && !answer.Status.Incomplete:
		return is, told, fmt.Errorf("in the namespace %s the account may not %s: give it the Role in docs/cluster-sites.md", namespace, strings.Join(must, "; "))
	case len(must) > 0:
		told = append(told, fmt.Sprintf("the cluster cannot say whether the account may, in %s: %s", namespace, strings.Join(must, "; ")))
	default:
		told = append(told, fmt.Sprintf("the account may do in the namespace %s what is needed", namespace))
	}
	if len(may) > 0 {
		told = append(told, "it may not, and does without: "+strings.Join(may, "; "))
	}
	return is, told, nil
}

// advised is why something failed, in words.
func advised(err error, namespace string) error {
	said, advice := why(err, namespace)
	if advice != "" {
		said += "; " + advice
	}
	return &refusal{said, err}
}
