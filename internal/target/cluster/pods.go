package cluster

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	corev1 "k8s.io/api/core/v1"

	"aditus/internal/core/declare"
	"aditus/internal/status"
	"aditus/internal/target"
)

// waits are the reasons of a container that waits that will not go by themselves: what is wrong stands in the declaration.
var waits = map[string]string{
	"ErrImagePull":               cannotPull,
	"ImagePullBackOff":           cannotPull,
	"InvalidImageName":           "its image has no valid name",
	"ErrImageNeverPull":          "its image is not on the node",
	"CreateContainerConfigError": "cannot be made",
	"CreateContainerError":       "cannot be made",
	"RunContainerError":          "cannot be run",
}

// mostEvents are so many of a pod's events that are shown.
const mostEvents = 12

// instance is a pod as the engine sees it.
func (s *Site) instance(pod *corev1.Pod, part declare.Part) target.Instance {
	in := target.Instance{
		ID: pod.Name, Part: pod.Labels[labelPart], Started: s.connection.as(pod.CreationTimestamp.Time), Address: pod.Status.PodIP, Ports: part.Ports,
		Environment: environment(pod, part), Told: map[string]string{},
	}
	about := s.connection.mirror.events(s.Namespace, pods.kind+"/"+pod.Name)
	for _, e := range about[max(0, len(about)-mostEvents):] {
		in.Events = append(in.Events, status.Event{At: s.connection.as(e.at), Text: e.text, Bad: e.bad})
	}
	ready, why := s.standing(pod, about, &in)
	if in.CannotStart == "" && !ready && in.Reason == "" {
		in.Reason = why
	}
	if in.Reason != "" || in.CannotStart != "" {
		if running(pod) == nil {
			in.Address = ""
		}
	}
	if name, _ := asks(part); name != "" {
		in.Told[name] = ""
		if !ready {
			in.Told[name] = cmp.Or(in.Reason, in.CannotStart, why)
		}
	}
	if _, name := asks(part); name != "" {
		in.Told[name] = "" // the node starts it anew where it does not run
	}
	if ready || running(pod) != nil {
		in.Reason = "" // it runs: what is asked of it says how it is doing
	}
	switch pod.Status.Phase {
	case corev1.PodSucceeded:
		in.Done = true
	case corev1.PodFailed:
		in.Failed = cmp.Or(ended(pod), pod.Status.Message, pod.Status.Reason, "it failed")
	}
	if used, ok := s.connection.used(s.Namespace, pod.Name); ok {
		in.Cores, in.Memory = used.cores, used.memory
	}
	if in.Address != "" {
		in.Through = s.connection.through(s.Namespace, pod)
	}
	return in
}

// standing tells whether a pod is ready, and otherwise why not, in words.
func (s *Site) standing(pod *corev1.Pod, about []*event, in *target.Instance) (ready bool, why string) {
	for _, c := range pod.Status.Conditions {
		switch {
		case c.Type == corev1.PodReady && c.Status == corev1.ConditionTrue:
			ready = true
		case c.Type == corev1.PodScheduled && c.Status == corev1.ConditionFalse:
			return false, "cannot be placed on a node: " + short(cmp.Or(c.Message, c.Reason))
		}
	}
	for _, state := range slices.Concat(pod.Status.InitContainerStatuses, pod.Status.ContainerStatuses) {
		in.Restarts = append(in.Restarts, s.restarts(state)...)
		if ended := state.LastTerminationState.Terminated; ended != nil && state.State.Running != nil {
			in.Started = s.connection.as(state.State.Running.StartedAt.Time)
		}
		wait := state.State.Waiting
		switch {
		case wait == nil:
		case waits[wait.Reason] != "":
			text := waits[wait.Reason] + ": " + cannot(state.Image, wait, about)
			if lasts(wait.Reason, text) {
				in.CannotStart = text
			}
			return false, text
		case wait.Reason == "CrashLoopBackOff":
			why = "ends again and again"
			if t := state.LastTerminationState.Terminated; t != nil {
				why = exit(t.ExitCode, t.Signal, t.Reason) + "; it is started again after a while"
			}
			in.Again = s.again(wait.Message, state.LastTerminationState.Terminated)
			return false, why
		case wait.Reason != "" && wait.Reason != "ContainerCreating" && wait.Reason != "PodInitializing":
			why = wait.Reason + ": " + short(wait.Message)
		}
		if t := state.State.Terminated; t != nil && t.ExitCode != 0 && why == "" {
			why = exit(t.ExitCode, t.Signal, t.Reason)
		}
	}
	if ready || why != "" {
		return ready, why
	}
	for _, e := range slices.Backward(about) { // the newest that says what is wrong
		if e.bad && !strings.HasPrefix(e.text, "MissingClusterDNS: ") { // the node has none, and goes on without
			if strings.HasPrefix(e.text, "NodeNotReady: ") && pod.Spec.NodeName != "" {
				return false, "its node " + pod.Spec.NodeName + " does not answer"
			}
			return false, sentence(e.text)
		}
	}
	switch {
	case pod.Status.Reason != "":
		why = pod.Status.Reason + ": " + short(pod.Status.Message)
	case pod.Spec.NodeName == "":
		why = "waits for a node"
	case running(pod) == nil:
		why = "its container is being made"
	default:
		why = "not ready yet"
	}
	return false, why
}

// lasting are words with which registries and nodes say that asking again will not help.
var lasting = []string{"not found", "manifest unknown", "name unknown", "denied", "unauthorized", "forbidden", "no match for platform", "invalid reference"}

// lasts tells whether what keeps a container from starting will not go by itself. A registry that does not answer may answer later.
func lasts(reason, text string) bool {
	if reason != "ErrImagePull" && reason != "ImagePullBackOff" {
		return true
	}
	text = strings.ToLower(text)
	return slices.ContainsFunc(lasting, func(word string) bool { return strings.Contains(text, word) })
}

// cannot gives what the cluster says of why a container cannot start: its events say more than its state, which in between
// says only that it waits. Of a chain of causes around an image it is the first and the last.
func cannot(image string, wait *corev1.ContainerStateWaiting, about []*event) string {
	text := wait.Message
	for _, e := range slices.Backward(about) {
		if reason, said, _ := strings.Cut(e.text, ": "); reason == "Failed" && e.bad && !strings.HasPrefix(said, "Error: ") {
			text = said
			break
		}
	}
	if waits[wait.Reason] != cannotPull {
		return short(cmp.Or(text, image))
	}
	if quoted := quotedImage.FindStringSubmatch(text); quoted != nil {
		image = quoted[1]
	}
	last := text[strings.LastIndex(text, ": ")+1:]
	if last = short(last); len(last) < 3 || strings.Contains(last, image) {
		return short(cmp.Or(text, image))
	}
	return image + ": " + last
}

const cannotPull = "cannot pull its image"

var quotedImage = regexp.MustCompile(`image "([^"]+)"`)

// sentence takes the reason, which is for programs, off an event's text.
func sentence(text string) string {
	if reason, rest, ok := strings.Cut(text, ": "); ok && !strings.Contains(reason, " ") && rest != "" {
		return short(rest)
	}
	return short(text)
}

// restarts are when a container was started again, as far as that can be known: how often, and when it last ended.
func (s *Site) restarts(state corev1.ContainerStatus) (all []time.Time) {
	ended := state.LastTerminationState.Terminated
	if state.RestartCount == 0 || ended == nil {
		return nil
	}
	at := s.connection.as(ended.FinishedAt.Time)
	for range min(state.RestartCount, mostRestarts) {
		all = append(all, at)
		at = at.Add(-restartsApart) // the cluster keeps the last one's time alone
	}
	slices.Reverse(all)
	return all
}

// Restarts whose times are not known are taken to lie so far apart: longer each time, as the cluster waits.
const (
	mostRestarts  = 32
	restartsApart = 40 * time.Second
)

// again is when a container that waits is started again, by what its node says: "back-off 20s restarting failed …".
func (s *Site) again(message string, ended *corev1.ContainerStateTerminated) time.Time {
	if ended == nil {
		return time.Time{}
	}
	for _, word := range strings.Fields(message) {
		if d, err := time.ParseDuration(word); err == nil {
			return s.connection.as(ended.FinishedAt.Add(d))
		}
	}
	return time.Time{}
}

// exit tells how a container ended.
func exit(code, signal int32, reason string) string {
	switch {
	case reason == "OOMKilled":
		return "killed: it used more memory than its limit"
	case signal != 0:
		return fmt.Sprintf("killed by signal %d", signal)
	case code > 128 && code <= 128+64:
		return fmt.Sprintf("killed by signal %d", code-128)
	}
	return fmt.Sprintf("ended with status %d", code)
}

// ended tells how a pod's container ended that did not end well; empty where none did.
func ended(pod *corev1.Pod) string {
	for _, state := range slices.Concat(pod.Status.InitContainerStatuses, pod.Status.ContainerStatuses) {
		if t := state.State.Terminated; t != nil && t.ExitCode != 0 {
			return exit(t.ExitCode, t.Signal, t.Reason)
		}
	}
	return ""
}

// running gives the main container's state where it runs.
func running(pod *corev1.Pod) *corev1.ContainerStateRunning {
	for _, state := range pod.Status.ContainerStatuses {
		if state.Name == containerName || len(pod.Status.ContainerStatuses) == 1 {
			return state.State.Running
		}
	}
	return nil
}

// environment is what a pod's container was given of what is declared, and what was added to that by hand: not what comes from
// Secrets and by reference, and not what every instance is given.
func environment(pod *corev1.Pod, part declare.Part) map[string]string {
	given := map[string]bool{"SECRETS": true, "SETTINGS": true, "SITE": true, "WORKLOAD": true, "PORT": true}
	for port := range part.Ports {
		given["PORT_"+declare.EnvironmentName(port)] = true
	}
	for volume := range part.Volumes {
		given["VOLUME_"+declare.EnvironmentName(volume)] = true
	}
	found := map[string]string{}
	for _, c := range pod.Spec.Containers {
		if c.Name != containerName && len(pod.Spec.Containers) > 1 {
			continue
		}
		for _, e := range c.Env {
			if _, declared := part.Environment[e.Name]; e.ValueFrom == nil && (declared || !given[e.Name]) {
				found[e.Name] = strings.ReplaceAll(e.Value, "$$(", "$(")
			}
		}
	}
	return found
}
