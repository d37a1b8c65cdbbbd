package local

import (
	"context"
	"fmt"
	"net"
	"runtime"

	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/load"
	"github.com/shirou/gopsutil/v4/mem"

	"aditus/internal/confine"
	"aditus/internal/core/declare"
	"aditus/internal/limit"
	"aditus/internal/status"
)

// Takes are the kinds of parts that a local site takes.
var Takes = []declare.Kind{declare.Service, declare.Task, declare.Route, declare.Settings, declare.Secret, declare.Volume}

// Ground implements target.Grounded: the machine, and what keeps its instances apart.
func (s *Site) Ground(ctx context.Context) (status.Ground, error) {
	g := status.Ground{On: "this machine", Takes: Takes}
	if _, port, err := net.SplitHostPort(s.Listen); err == nil {
		g.On += ", traffic on " + port
		g.Told = append(g.Told, "HTTP traffic comes in at "+s.Listen)
	}
	if s.contained() {
		return s.engineGround(ctx, g)
	}
	_, err := s.Keeper.hello(ctx)
	if err != nil && len(s.book.Workloads()) > 0 { // one that keeps nothing leaves
		return g, fmt.Errorf("its keeper does not answer: %w", err)
	}
	if info, err := host.InfoWithContext(ctx); err == nil {
		g.Version = info.Platform + " " + info.PlatformVersion
	}
	g.Room = machineRoom(ctx)
	if space, err := disk.UsageWithContext(ctx, s.places); err == nil {
		g.Room = append(g.Room, status.Room{Of: "disk", Used: float64(space.Used), Has: float64(space.Used + space.Free)})
	}
	apart := "its workloads run as the user that Aditus runs as"
	if s.Users != nil {
		apart = "each of its workloads runs as a user of its own, of " + s.Users.Instances.Users
	}
	confined := "confined to what is theirs"
	if !confine.Can() {
		confined = "not confined: this system cannot"
	}
	g.Told = append(g.Told, apart+", "+confined)
	held := "limits are held by control groups"
	if !limit.Can() {
		held = limit.ErrCannot.Error()
	}
	g.Told = append(g.Told, held)
	return g, nil
}

// machineRoom is what this machine has, and how much of it is taken.
func machineRoom(ctx context.Context) (all []status.Room) {
	if used, err := load.AvgWithContext(ctx); err == nil {
		all = append(all, status.Room{Of: "processors", Used: used.Load1, Has: float64(runtime.NumCPU())})
	}
	if memory, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		all = append(all, status.Room{Of: "memory", Used: float64(memory.Total - memory.Available), Has: float64(memory.Total)})
	}
	return all
}
