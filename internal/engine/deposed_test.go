package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"testing"

	"aditus/internal/core/berth"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
	"aditus/internal/ledger/postgrestest"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/sim"
)

func TestMain(m *testing.M) { os.Exit(postgrestest.Run(m)) }

// counted counts what is asked of a site.
type counted struct {
	*sim.Site
	asked *atomic.Int64
}

func (c counted) Apply(ctx context.Context, workload string, wants []target.Want) error {
	c.asked.Add(1)
	return c.Site.Apply(ctx, workload, wants)
}

func (c counted) Restart(ctx context.Context, workload, instance string) error {
	c.asked.Add(1)
	return c.Site.Restart(ctx, workload, instance)
}

// TestDeposed cuts a server off from the ledger in the midst of a rollout, once with each kind of way: another one goes on with it where it
// was, the first asks nothing of a site any more, and nothing is done twice or lost.
func TestDeposed(t *testing.T) {
	server := postgrestest.Start(t)
	for name, cut := range map[string]func(*postgrestest.Way){"partitioned": (*postgrestest.Way).Freeze, "cut": func(w *postgrestest.Way) { w.After(0) }} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t)
			address, way := server.Database(t), server.Way(t)
			r.shared = way.Of(address)
			var first, second atomic.Int64
			r.wrap = func(s *sim.Site) target.Driver { return counted{s, &first} }
			stages := []string{stagesOf, "  stages: [{share: 10 %, soak: 1m}, {share: 50 %, soak: 1m}, {share: 100 %}]\n"}
			r.push("1", stages...)
			r.run()
			r.until("1 is live", func(s status.Snapshot) bool { b := berthAt(s, "north"); return version(b) == "1" && b.Rollout == nil })
			r.push("2", stages...)
			r.until("2 comes in", inPhase("drydock", rollout.Soaking, 0))
			id := berthAt(r.engine.Snapshot(), "drydock").Rollout.ID
			cut(way)
			next, err := ledger.Connect(address, "", nil)
			r.must(err)
			defer next.Close()
			taken, asked := make(chan error, 1), int64(-1)
			go func() {
				_, err := next.Lead(context.Background(), ledger.Server{Name: "harbor-2"}, nil)
				asked = first.Load()
				taken <- err
			}()
			for r.leads.Err() == nil {
				r.wait(r.engine.beat)
			}
			r.must(<-taken)
			r.stop()
			late := berth.Decision{State: berth.State{Applied: "a"}, Intents: []rollout.Intent{{Do: rollout.SetShare, Revision: "a", Share: 1}}, Restarts: []string{"web-1"}}
			if err := r.engine.berths[berth.ID{Workload: "web", Site: "drydock"}].act(t.Context(), late); !errors.Is(err, ledger.ErrDeposed) {
				t.Errorf("what was decided before is done: %v", err)
			}
			next.Close()
			way.Thaw()

			r.shared = address
			r.wrap = func(s *sim.Site) target.Driver { return counted{s, &second} }
			r.run()
			r.until("2 is live", func(s status.Snapshot) bool { b := berthAt(s, "north"); return version(b) == "2" && b.Rollout == nil })
			if now := first.Load(); now != asked || second.Load() == 0 {
				t.Errorf("the first asked %d times, and then %d; the second %d", asked, now, second.Load())
			}
			facts, err := r.book.Facts(ledger.Query{Berth: berth.ID{Workload: "web", Site: "drydock"}})
			r.must(err)
			seen := map[string]int{}
			for i, f := range facts {
				if i > 0 && f.Seq <= facts[i-1].Seq {
					t.Errorf("fact %d comes after %d", f.Seq, facts[i-1].Seq)
				}
				if f.Rollout == id {
					seen[fmt.Sprint(f.Kind, " ", f.Text)]++
				} else if f.Rollout > id {
					t.Errorf("there is another rollout: %s", f.Text)
				}
			}
			for what, times := range seen {
				if times > 1 {
					t.Errorf("%d times: %s", times, what)
				}
			}
			if len(seen) < 3 {
				t.Errorf("of the rollout there is %v", seen)
			}
		})
	}
}
