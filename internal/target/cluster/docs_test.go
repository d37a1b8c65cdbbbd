package cluster

import (
	"os"
	"strings"
	"testing"

	"sigs.k8s.io/yaml"
)

// TestRole sees that the Role in the docs is what is needed, that it reads as what the API takes, and that an account with
// less is told what it lacks.
func TestRole(t *testing.T) {
	text := RoleText("north", "aditus")
	docs, err := os.ReadFile("../../../docs/cluster-sites.md")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(docs), "```yaml\n"+text+"```") {
		t.Errorf("docs/cluster-sites.md does not have this Role:\n%s", text)
	}
	var read, made object
	if err := yaml.Unmarshal([]byte(text), &read); err != nil {
		t.Fatal(err)
	}
	made = Role("north", "aditus")
	if d := append(keysIn(differences("", made, read)), keysIn(differences("", read, made))...); len(d) > 0 {
		t.Errorf("it reads as another one: %v", d)
	}
	every := []rule{{Verbs: []string{"*"}, APIGroups: []string{"*"}, Resources: []string{"*"}}}
	if must, may := lacking(every, true); len(must)+len(may) > 0 {
		t.Errorf("who may do everything lacks %v %v", must, may)
	}
	some := []rule{{Verbs: all, APIGroups: []string{"", "apps", "batch"}, Resources: []string{"configmaps", "secrets", "services", "persistentvolumeclaims", "pods", "events", "deployments", "statefulsets"}}}
	must, may := lacking(some, false)
	if strings.Join(must, "; ") != "get, list, watch, create, patch, delete jobs" || len(may) != 6 {
		t.Errorf("lacks %q, and does without %q", must, may)
	}
	if must, _ := lacking([]rule{{Verbs: all, APIGroups: []string{""}, Resources: []string{"*"}, ResourceNames: []string{"one"}}}, false); len(must) == 0 {
		t.Error("a right on one object was taken for one on all")
	}
}

func keysIn(m map[string]string) (keys []string) {
	for key, value := range m {
		keys = append(keys, key+" "+value)
	}
	return keys
}
