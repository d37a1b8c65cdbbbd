package containers

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"aditus/internal/target/containers/agent"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/local"
	"aditus/internal/target/local/keeper"
)

// engineSocket is where the keeper of an agent finds its engine, within the agent's folder, whichever way that is reached by.
const engineSocket = "engine.sock"

// Agent says how an agent works on its machine.
type Agent struct {
	Folder  string // its own
	Engine  string // the address of the machine's engine, as the agent sees it
	Program string // what the agent's program is known by
	Log     *slog.Logger
}

// Work works as the agent of a container host until ctx ends: sites that it is told of, kept by a keeper of its own.
func Work(ctx context.Context, a Agent) error {
	memory := filepath.Join(agent.Memory, "aditus-"+keeper.OwnerOf(a.Folder)[:16])
	if err := os.MkdirAll(memory, 0o700); err != nil {
		return fmt.Errorf("work as an agent: %w", err)
	}
	kept, err := local.AgentKeeper(a.Folder, a.Program)
	if err != nil {
		return err
	}
	to := &forward{}
	leading, cancel := context.WithCancel(ctx)
	defer cancel()
	socketAt := filepath.Join(a.Folder, engineSocket)
	address := host.Scheme + socketAt
	return agent.Run(ctx, agent.Options{
		Folder: a.Folder, Memory: memory, Program: a.Program, Log: a.Log, End: kept.End, Leads: kept.TookOver,
		Open: func(setup agent.Setup, as func(time.Time) time.Time, b *agent.Brought) (map[string]agent.Site, error) {
			way, err := wayThere(a, setup.Engine)
			if err != nil {
				return nil, err
			}
			if err := to.lead(leading, socketAt, way, a.Log); err != nil { // only now: until then the agent before this one leads there
				return nil, err
			}
			engine := &local.Engine{Address: address, Called: setup.Called, Host: host.New(address), Images: b}
			sites := map[string]agent.Site{}
			for _, works := range setup.Sites {
				s, err := local.Open(local.Options{Name: works.Name, Folder: a.Folder, Listen: works.Listen, Ports: works.Ports, Keeper: kept, Engine: engine, Open: b.Open, Mark: b.Mark, As: as})
				if err != nil {
					return nil, err
				}
				sites[works.Name] = s
			}
			return sites, nil
		},
	})
}

// wayThere is the way to the engine from its own machine, with the credentials that the agent was given.
func wayThere(a Agent, c agent.Credentials) (host.Way, error) {
	way := host.Way{Address: a.Engine}
	for name, one := range map[string]struct {
		text string
		file *string
	}{"ca": {c.CA, &way.CA}, "certificate": {c.Certificate, &way.Certificate}, "key": {c.Key, &way.Key}} {
		if one.text == "" {
			continue
		}
		*one.file = filepath.Join(a.Folder, "engine-"+name+".pem")
		if err := os.WriteFile(*one.file, []byte(one.text), 0o600); err != nil {
			return way, fmt.Errorf("keep what the engine asks for: %w", err)
		}
	}
	return way, nil
}
