package declare

import (
	"slices"
	"strings"
)

// MainContainer is what the container of a pod template is called that runs the part.
const MainContainer = "main"

// fromTemplate takes what a service's pods come from into the words of a declaration, where it has words for it and does not say
// it itself: the image, its named ports, and what stands in its environment as it is. The rest stays in the template.
func (r *reader) fromTemplate(n Node, pointer string, part *Part) {
	spec, _ := part.Template["spec"].(map[string]any)
	containers, _ := spec["containers"].([]any)
	if len(containers) == 0 {
		r.wrong(n, pointer+"/template", "name a Deployment, StatefulSet or another object with a pod template", "what it comes from has no containers")
		return
	}
	at := max(0, slices.IndexFunc(containers, func(c any) bool { of, _ := c.(map[string]any); return of["name"] == MainContainer }))
	main, ok := containers[at].(map[string]any)
	if !ok {
		r.wrong(n, pointer+"/template", "", "a container must be a mapping")
		return
	}
	main["name"] = MainContainer
	if part.Artifact == "" {
		part.Artifact = TextAt(main, "image")
	}
	delete(main, "image")
	if !artifactPattern.MatchString(part.Artifact) || Tag(part.Artifact) == "" {
		r.wrong(n, pointer+"/artifact", "write artifact: HOST/PATH:TAG beside from:", "%q is no OCI reference with a tag or digest", part.Artifact)
	}
	ports, _ := main["ports"].([]any)
	for _, p := range ports {
		of, _ := p.(map[string]any)
		name, number := TextAt(of, "name"), of["containerPort"]
		if port, whole := number.(float64); whole && name != "" {
			if part.Ports == nil {
				part.Ports = map[string]int{}
			}
			if _, said := part.Ports[name]; !said {
				part.Ports[name] = int(port)
			}
		}
	}
	delete(main, "ports")
	env, _ := main["env"].([]any)
	var left []any
	for _, e := range env {
		of, _ := e.(map[string]any)
		name := TextAt(of, "name")
		value, plain := of["value"].(string)
		if !plain && of["valueFrom"] == nil && of["value"] == nil {
			plain = true // an empty one
		}
		switch _, said := part.Environment[name]; {
		case said:
		case plain && variablePattern.MatchString(name) && !strings.Contains(value, "$("):
			if part.Environment == nil {
				part.Environment = map[string]string{}
			}
			part.Environment[name] = value
		default:
			left = append(left, e)
		}
	}
	if delete(main, "env"); len(left) > 0 {
		main["env"] = left
	}
	labels, _ := part.Template["metadata"].(map[string]any)
	for _, marks := range []string{"labels", "annotations"} {
		all, _ := labels[marks].(map[string]any)
		for key := range all {
			if strings.HasPrefix(key, "aditus/") {
				r.wrong(n, pointer+"/template/metadata/"+marks+"/"+Escape(key), "take it out", "the mark %s is written by Aditus itself", key)
			}
		}
	}
}

// NeedsCluster tells whether there is something that only a cluster can run.
func (d Desired) NeedsCluster() bool {
	for _, part := range d.Parts {
		if part.Kind == Objects || part.Template != nil {
			return true
		}
	}
	return false
}
