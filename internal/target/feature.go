package target

import (
	"fmt"
	"strings"

	"aditus/internal/core/declare"
)

// Feature is something that a declaration can ask of its site, or that a site can do by itself.
type Feature struct {
	Name string
	Asks func(declare.Part) bool // whether a part asks for it; nil for what no part asks for
}

// runs tells whether a part has instances.
func runs(p declare.Part) bool { return p.Kind == declare.Service || p.Kind == declare.Task }

// outside tells whether another workload is named by what a part is told.
func outside(p declare.Part) bool {
	for _, ref := range p.References() {
		if ref.Workload != "" {
			return true
		}
	}
	return false
}

// The features, by which each kind of target says what it can.
const (
	CanShare     = "share of the traffic"
	CanPreview   = "preview of a new cohort"
	CanTCP       = "routes for TCP"
	CanSticky    = "visitors that stay with a cohort"
	CanImages    = "artifacts: images"
	CanFiles     = "artifacts: files of this machine"
	CanPrograms  = "programs of the machine"
	CanTasks     = "tasks"
	CanSettings  = "settings and secrets as files"
	CanLay       = "`files`"
	CanVolumes   = "volumes"
	CanLimits    = "limits of processor and memory"
	CanProcesses = "limits of processes"
	CanUser      = "`user`"
	CanFolder    = "`folder`"
	CanUmask     = "`umask`"
	CanFixed     = "`fixed-ports`"
	CanName      = "addresses of the workload's parts"
	CanOutside   = "addresses of other workloads' parts"
	CanObjects   = "objects as they are"
	CanDrift     = "drift"
	CanLog       = "log"
	CanExec      = "probes by a command"
	CanUsage     = "usage of processor and memory"
	CanTakeOver  = "taking over what runs"
	CanGoOn      = "goes on when Aditus ends"
)

// Features are all features, in the order in which they are told.
var Features = []Feature{
	{CanShare, nil},
	{CanPreview, func(p declare.Part) bool { return p.Preview != "" || p.PreviewBy != nil }},
	{CanTCP, func(p declare.Part) bool { return p.TCP != 0 }},
	{CanSticky, func(p declare.Part) bool { return p.Sticky != nil }},
	{CanImages, nil},
	{CanFiles, func(p declare.Part) bool { return strings.HasPrefix(p.Artifact, declare.FileScheme) }},
	{CanPrograms, func(p declare.Part) bool { return runs(p) && p.Artifact == "" && p.Template == nil }},
	{CanTasks, func(p declare.Part) bool { return p.Kind == declare.Task }},
	{CanSettings, func(p declare.Part) bool { return p.Kind == declare.Settings || p.Kind == declare.Secret }},
	{CanLay, func(p declare.Part) bool { return len(p.Files) > 0 }},
	{CanVolumes, func(p declare.Part) bool { return p.Kind == declare.Volume }},
	{CanLimits, func(p declare.Part) bool {
		return p.Resources != nil && (p.Resources.Limits.CPU > 0 || p.Resources.Limits.Memory > 0)
	}},
	{CanProcesses, func(p declare.Part) bool { return p.Resources != nil && p.Resources.Limits.Processes > 0 }},
	{CanUser, func(p declare.Part) bool { return p.User != nil }},
	{CanFolder, func(p declare.Part) bool { return p.Folder != "" }},
	{CanUmask, func(p declare.Part) bool { return p.Umask != "" }},
	{CanFixed, func(p declare.Part) bool { return p.Fixed }},
	{CanName, func(p declare.Part) bool { return len(p.References()) > 0 && !outside(p) }},
	{CanOutside, outside},
	{CanObjects, func(p declare.Part) bool { return p.Kind == declare.Objects || p.Template != nil }},
	{CanDrift, nil},
	{CanLog, nil},
	{CanExec, func(p declare.Part) bool {
		for _, probe := range p.Probes {
			if len(probe.Command) > 0 {
				return true
			}
		}
		return false
	}},
	{CanUsage, nil},
	{CanTakeOver, nil},
	{CanGoOn, nil},
}

// Lacks tells what a part asks for that sites of a kind cannot do; empty where there is nothing.
func (k Kind) Lacks(part declare.Part) (all []string) {
	for _, f := range Features {
		if f.Asks != nil && k.Can[f.Name] == "" && f.Asks(part) {
			all = append(all, f.Name)
		}
	}
	return all
}

// Table is what all kinds can do, as a table in Markdown.
func Table(kinds []Kind) string {
	var out strings.Builder
	out.WriteString("| |")
	for _, k := range kinds {
		fmt.Fprintf(&out, " `%s` |", k.Name)
	}
	out.WriteString("\n| --- |" + strings.Repeat(" --- |", len(kinds)) + "\n")
	for _, f := range Features {
		fmt.Fprintf(&out, "| %s |", f.Name)
		for _, k := range kinds {
			can := k.Can[f.Name]
			if can == "" {
				can = "–"
			}
			fmt.Fprintf(&out, " %s |", can)
		}
		out.WriteString("\n")
	}
	return out.String()
}
