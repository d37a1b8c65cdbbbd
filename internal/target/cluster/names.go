package cluster

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
)

// Marks of ours on the objects that we make. The labels never change, so that selectors can use them; whatever does change stands in
// annotations, and never on a pod template, where a change would exchange the pods.
const (
	labelWorkload = "aditus/workload"
	labelPart     = "aditus/part"
	labelCohort   = "aditus/cohort"
	labelRecord   = "aditus/record" // on a cohort's record alone
	labelManaged  = "app.kubernetes.io/managed-by"

	annotationRevision = "aditus/revision"
	annotationLine     = "aditus/line"    // on a cohort's record: whose it is
	annotationStep     = "aditus/step"    // on a cohort's record: the last step that the site was told of
	annotationPreview  = "aditus/preview" // on a cohort's record: the preview routes lead to it
	annotationTaken    = "aditus/taken"   // on a route: the shares that its gateway had taken before the last change
	annotationForm     = "aditus/form"    // on an object that is declared as it is: which form of it was put there
	annotationCost     = "controller.kubernetes.io/pod-deletion-cost"
)

// manager is the field manager by which fields of objects are ours.
const manager = "aditus"

// longest is how long the name of an object may be, so that those that the cluster makes of it fit in a label too.
const longest = 52

// join makes the name of an object. A long one is cut, and stays its own by what it was.
func join(words ...string) string {
	name := strings.Join(words, "-")
	if len(name) <= longest {
		return name
	}
	sum := sha256.Sum256([]byte(name))
	end := "-" + hex.EncodeToString(sum[:4])
	return strings.TrimRight(name[:longest-len(end)], "-.") + end
}

// Names of a workload's objects.
func recordName(workload, cohort string) string       { return join("aditus", workload, cohort) }
func cohortName(workload, part, cohort string) string { return join(workload, part, cohort) } // of what a cohort has for itself
func sharedName(workload, part string) string         { return join(workload, part) }         // of what all cohorts share
func routeName(workload, part, distinct string) string {
	return strings.TrimSuffix(join(workload, part, distinct), "-")
}
func previewName(workload, part string) string { return join(workload, part, "preview") }
func hash(text string) string                  { sum := sha256.Sum256([]byte(text)); return hex.EncodeToString(sum[:4]) }
