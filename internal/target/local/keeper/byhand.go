package keeper

import (
	"fmt"
	"os"
	"slices"

	gops "github.com/shirou/gopsutil/v4/process"

	"aditus/internal/core/say"
	"aditus/internal/limit"
)

// byHand is what somebody changed of the running process, in words: what it was started with, nothing else changes while it runs. Its
// environment is not among that: no other process can change it. It is called with the lock held.
func (p *process) byHand() (all []string) {
	seen := &gops.Process{Pid: int32(p.record.PID)}
	if states, err := seen.Status(); err == nil && slices.Contains(states, gops.Stop) {
		all = append(all, "stopped by a signal or a debugger")
	}
	if p.record.Found {
		return all // it runs as whom it ran, and held to what it was
	}
	user := uint32(p.spec.User)
	if user == 0 {
		user = uint32(os.Geteuid())
	}
	if users, err := seen.Uids(); err == nil && len(users) > 0 && users[0] != user {
		all = append(all, fmt.Sprintf("runs as user %d", users[0]))
	}
	if p.spec.Limits == nil || !limit.Find(p.group()...).Holds() {
		return all
	}
	switch has, within, err := limit.Of(p.record.PID, p.group()...); {
	case err != nil: // it has just ended
	case !within:
		all = append(all, "held to no limits, outside of its control group")
	default:
		all = append(all, heldOtherwise(*p.spec.Limits, has)...)
	}
	return all
}

// heldOtherwise are the limits that are not as they were set.
func heldOtherwise(set, has limit.Limits) (all []string) {
	tell := func(as bool, is bool, what, how string) {
		switch {
		case as:
		case is:
			all = append(all, "held to "+how)
		default:
			all = append(all, "not held in "+what)
		}
	}
	page := int64(os.Getpagesize())
	tell(set.Memory == 0 || has.Memory/page == set.Memory/page, has.Memory > 0, "memory", say.Bytes(has.Memory)+" of memory")
	tell(set.CPU == 0 || fmt.Sprintf("%.2f", has.CPU) == fmt.Sprintf("%.2f", max(set.CPU, limit.LeastCPU)), has.CPU > 0, "processor time", fmt.Sprintf("%.3g of a processor", has.CPU))
	tell(set.Processes == 0 || has.Processes == set.Processes, has.Processes > 0, "processes", fmt.Sprintf("%d processes", has.Processes))
	return all
}
