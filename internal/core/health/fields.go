package health

import "math"

// Fields of objects as JSON gives them. What has another form than it should is as if it were not there.

// said is a reason with its message, whichever of the two there is.
func said(reason, message string) string {
	switch {
	case message == "":
		return reason
	case reason == "":
		return message
	}
	return reason + ": " + message
}

// conditionSeen is one of an object's conditions; its status is empty where there is none.
type conditionSeen struct {
	status, reason, message string
	generation              int
}

func (c conditionSeen) is(status string) bool { return c.status == status }

// String is what it says.
func (c conditionSeen) String() string {
	if c.message != "" {
		return c.message
	}
	return c.reason
}

func condition(o map[string]any, kind string) conditionSeen {
	return conditionIn(items(o, "status", "conditions"), kind)
}

func conditionIn(list []map[string]any, kind string) conditionSeen {
	for _, c := range list {
		if text(c, "type") == kind {
			generation, _ := number(c, "observedGeneration")
			return conditionSeen{text(c, "status"), text(c, "reason"), text(c, "message"), generation}
		}
	}
	return conditionSeen{}
}

// wanted is how many instances an object asks for: one where it does not say.
func wanted(o map[string]any) int {
	if n, ok := number(o, "spec", "replicas"); ok {
		return n
	}
	return 1
}

func count(o map[string]any, of string) int {
	n, _ := number(o, "status", of)
	return n
}

func field(o map[string]any, path ...string) any {
	var value any = o
	for _, key := range path {
		of, _ := value.(map[string]any)
		value = of[key]
	}
	return value
}

func has(o map[string]any, path ...string) bool { return field(o, path...) != nil }

func text(o map[string]any, path ...string) string {
	value, _ := field(o, path...).(string)
	return value
}

func flag(o map[string]any, path ...string) bool {
	value, _ := field(o, path...).(bool)
	return value
}

// number reads a whole number in whichever form JSON was read.
func number(o map[string]any, path ...string) (int, bool) {
	switch value := field(o, path...).(type) {
	case int64:
		return int(value), true
	case int:
		return value, true
	case float64:
		if math.Abs(value) < 1<<53 {
			return int(value), true
		}
	}
	return 0, false
}

func items(o map[string]any, path ...string) (found []map[string]any) {
	list, _ := field(o, path...).([]any)
	for _, item := range list {
		if of, ok := item.(map[string]any); ok {
			found = append(found, of)
		}
	}
	return found
}
