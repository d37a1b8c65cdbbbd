package sim

import (
	"context"

	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/status"
	"aditus/internal/target"
)

// Ground implements target.Grounded: a model, which has room for all.
func (s *Site) Ground(context.Context) (status.Ground, error) {
	g := status.Ground{On: "a model that runs nothing", Takes: []declare.Kind{declare.Service, declare.Task, declare.Route, declare.Settings, declare.Secret, declare.Volume}}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.unreachable {
		return g, fault.New(target.ErrUnreachable, "%s does not answer", s.name)
	}
	return g, nil
}
