package compare

import (
	"maps"
	"strings"

	"aditus/internal/core/declare"
)

// KeepLeft gives a desired state in which the fields that it leaves to others are as they are live: what a scaler set
// stays as the scaler set it. Of a part that is not live nothing is changed.
func KeepLeft(desired declare.Desired, live Live) declare.Desired {
	if len(desired.Leave) == 0 || live == nil {
		return desired
	}
	parts := maps.Clone(desired.Parts)
	for _, pointer := range desired.Leave {
		name, field, _ := strings.Cut(strings.TrimPrefix(pointer, "/parts/"), "/")
		name = declare.Unescape(name)
		part, declared := parts[name]
		fields, isLive := live[name].(map[string]any)
		if !declared || !isLive {
			continue
		}
		field, key, deeper := strings.Cut(field, "/")
		switch field {
		case "instances":
			if count, ok := fields["instances"].(float64); ok {
				part.Instances = int(count)
			}
		case "artifact":
			if artifact, ok := fields["artifact"].(string); ok {
				part.Artifact = artifact
			}
		case "environment":
			part.Environment = leftTexts(part.Environment, fields[field], declare.Unescape(key), deeper)
		case "values":
			part.Values = leftTexts(part.Values, fields[field], declare.Unescape(key), deeper)
		}
		parts[name] = part
	}
	desired.Parts = parts
	return desired
}

// leftTexts takes one key, or all, of a mapping of texts as it is live.
func leftTexts(declared map[string]string, live any, key string, one bool) map[string]string {
	seen, _ := live.(map[string]any)
	kept := map[string]string{}
	if one {
		kept = maps.Clone(declared)
		delete(kept, key)
	}
	for name, value := range seen {
		if text, ok := value.(string); ok && (!one || name == key) {
			if kept == nil {
				kept = map[string]string{}
			}
			kept[name] = text
		}
	}
	return kept
}
