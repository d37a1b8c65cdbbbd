// Package simulate puts guards to the test: it makes up traffic, plays rollouts with it that do and do not get worse, and
// measures how often a guard breaches falsely, how long it takes to see what is really worse, and whom that harms.
package simulate

import (
	"math"
	"math/rand/v2"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// Every is the evaluation interval of all trials.
const Every = 10 * time.Second

// Traffic is how requests come in and how many of them are bad, whatever answers them.
type Traffic struct {
	Name     string
	Requests float64 // per interval, on average
	Bad      float64 // share of bad answers
	Daily    float64 // swing of both over a day, as a share
	Drift    float64 // how much the bad share wanders, as a share of itself per interval
	Bursts   float64 // chance that an interval has three times the requests
	Scatter  float64 // how much each cohort's bad share scatters by itself in each interval, as a share of itself
	Outages  float64 // chance for each interval that both cohorts get worse together for a while
}

// Kinds are the kinds of traffic that the trials play.
func Kinds(requests, bad float64) []Traffic {
	return []Traffic{
		{Name: "steady", Requests: requests, Bad: bad},
		{Name: "daily shape and drift", Requests: requests, Bad: bad, Daily: 0.6, Drift: 0.05},
		{Name: "bursts of load", Requests: requests, Bad: bad, Daily: 0.3, Bursts: 0.1},
		{Name: "scattered by cohort", Requests: requests, Bad: bad, Scatter: 0.4},
		{Name: "outages of both", Requests: requests, Bad: bad, Outages: 0.01},
		{Name: "all of it", Requests: requests, Bad: bad, Daily: 0.4, Drift: 0.03, Bursts: 0.05, Scatter: 0.3, Outages: 0.005},
	}
}

// source is traffic under way.
type source struct {
	Traffic
	chance *rand.Rand
	hour   float64 // of the day, at the beginning
	wander float64 // logarithm of how far the bad share has wandered
	outage int     // intervals that the present outage still lasts
	bad    float64 // during it
	at     int
}

func (t Traffic) start(seed uint64) *source {
	chance := rand.New(rand.NewPCG(seed, 0xad1705))
	return &source{Traffic: t, chance: chance, hour: 24 * chance.Float64()}
}

// next makes an interval with so much of the traffic on new, which is worse by so much.
func (s *source) next(share, worse float64) guard.Interval {
	s.at++
	hour := s.hour + float64(s.at)*Every.Hours()
	daily := 1 + s.Daily*math.Cos(hour/24*2*math.Pi)
	requests := s.Requests * daily
	if s.chance.Float64() < s.Bursts {
		requests *= 3
	}
	s.wander = 0.98*s.wander + s.Drift*s.chance.NormFloat64()
	bad := s.Bad * math.Exp(s.wander) * (1 + 0.5*(daily-1))
	switch {
	case s.outage > 0:
		s.outage--
		bad = s.bad
	case s.chance.Float64() < s.Outages:
		s.outage, s.bad = 2+s.chance.IntN(12), 0.05+0.4*s.chance.Float64()
	}
	at := time.Unix(0, 0).Add(time.Duration(s.at) * Every)
	side := func(requests, bad float64) *signal.Point {
		n := s.poisson(requests)
		if n == 0 {
			return nil
		}
		if s.Scatter > 0 {
			bad *= math.Exp(s.Scatter*s.chance.NormFloat64() - s.Scatter*s.Scatter/2)
		}
		k := distuv.Binomial{N: n, P: min(bad, 1), Src: s.chance}.Rand()
		return &signal.Point{At: at, Value: k / n, Tally: signal.Tally{Part: k, Whole: n}}
	}
	i := guard.Interval{At: at}
	if share < 1 {
		i.Old = side(requests*(1-share), bad)
	}
	if share > 0 {
		i.New = side(requests*share, bad+worse)
	}
	return i
}

func (s *source) poisson(mean float64) float64 {
	if mean <= 0 {
		return 0
	}
	return distuv.Poisson{Lambda: mean, Src: s.chance}.Rand()
}
