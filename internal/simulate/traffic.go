// Package simulate puts guards to the test: it makes up traffic, plays whole rollouts with it that do and do not get
// worse, and measures how often a guard breaches falsely, how long it takes to see what is really worse, and whom that
// harms.
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

// Traffic is how requests come in and how many of them are bad, whatever answers them. What has a chance has it in every
// interval.
type Traffic struct {
	Name     string
	Requests float64 // per interval, on average
	Bad      float64 // share of bad answers

	// What hits both cohorts.
	Daily   float64 // swing of both over a day, as a share
	Drift   float64 // how much the logarithm of the bad share wanders in an interval
	Memory  float64 // how much of that carries over to the next one; 0.98 where it is 0
	Bursts  float64 // chance of three times the requests
	Outages float64 // chance that an outage begins: up to 45 % bad answers for 2 to 13 intervals
	Storms  float64 // chance that a retry storm begins: four times the requests, and bad answers ten times as often, for 3 to 20
	Dips    bool    // with every new share both have three times the bad answers for three intervals

	// What hits one cohort alone.
	Scatter  float64 // how much the logarithm of its bad share scatters from interval to interval
	Own      float64 // and wanders, with OwnKeeps of it carried over to the next interval
	OwnKeeps float64
	Regimes  float64 // chance that it changes between its usual bad share and twice that
	Clusters float64 // bad answers come in groups of so many, on average
	Callers  float64 // chance that a caller comes who sticks to one cohort, with 2 % of its requests and all of them bad, for 2 to 13
	Odd      float64 // how many times as many bad answers one of its eight instances gives
	Cold     float64 // how many times as many bad answers new gives in the first four intervals that it serves

	// What is seen of it.
	Lost float64 // chance that what one cohort showed cannot be read

	// Unlike tells that one cohort alone is worse for longer than a stage shows, which nothing that is seen of two cohorts can
	// tell from a regression.
	Unlike bool
}

// Kinds are the kinds of traffic that the trials play.
func Kinds(requests, bad float64) []Traffic {
	kinds := []Traffic{
		{Name: "steady"},
		{Name: "daily shape and drift", Daily: 0.6, Drift: 0.05},
		{Name: "drift with a short memory", Drift: 0.3, Memory: 0.8},
		{Name: "drift with a long memory", Drift: 0.15, Memory: 0.99},
		{Name: "bursts of load", Daily: 0.3, Bursts: 0.1},
		{Name: "outages of both", Outages: 0.01},
		{Name: "retry storms", Storms: 0.01},
		{Name: "dips at stage changes", Dips: true},
		{Name: "scattered by cohort", Scatter: 0.4},
		{Name: "own noise, short memory", Own: 0.25, OwnKeeps: 0.6},
		{Name: "own noise, long memory", Own: 0.25, OwnKeeps: 0.95, Unlike: true},
		{Name: "regimes of one cohort", Regimes: 0.03, Unlike: true},
		{Name: "clustered errors", Clusters: 5},
		{Name: "sticky callers", Callers: 0.01, Unlike: true},
		{Name: "one odd instance", Odd: 3},
		{Name: "cold starts", Cold: 5},
		{Name: "lost scrapes", Lost: 0.2, Daily: 0.3},
		{Name: "all of it", Daily: 0.4, Drift: 0.03, Bursts: 0.05, Scatter: 0.3, Outages: 0.005},
	}
	for i := range kinds {
		kinds[i].Requests, kinds[i].Bad = requests, bad
	}
	return kinds
}

// source is traffic under way.
type source struct {
	Traffic
	chance *rand.Rand
	hour   float64 // of the day, at the beginning
	wander float64 // logarithm of how far the bad share has wandered
	outage int     // intervals that the present outage still lasts
	bad    float64 // during it
	storm  int     // intervals that the present storm still lasts
	at     int
	share  float64
	inside int // intervals under the present share
	served int // that new has served
	sides  [2]side
}

// side is what one cohort does by itself.
type side struct {
	wander float64
	worse  bool // of two regimes
	caller int  // intervals that a caller still stays
	odd    bool // it has an odd instance
}

func (t Traffic) start(seed uint64) *source {
	chance := rand.New(rand.NewPCG(seed, 0xad1705))
	s := &source{Traffic: t, chance: chance, hour: 24 * chance.Float64()}
	for i := range s.sides {
		s.sides[i] = side{wander: t.Own * chance.NormFloat64(), worse: chance.IntN(2) == 0, odd: chance.IntN(2) == 0}
	}
	return s
}

func (s *source) happens(chance float64) bool { return chance > 0 && s.chance.Float64() < chance }

// common makes what hits both cohorts: how many requests there are, and how many of them are bad.
func (s *source) common() (requests, bad float64) {
	s.at++
	s.inside++
	hour := s.hour + float64(s.at)*Every.Hours()
	daily := 1 + s.Daily*math.Cos(hour/24*2*math.Pi)
	requests = s.Requests * daily
	if s.happens(s.Bursts) {
		requests *= 3
	}
	keeps := s.Memory
	if keeps == 0 {
		keeps = 0.98
	}
	s.wander = keeps*s.wander + s.Drift*s.chance.NormFloat64()
	bad = s.Bad * math.Exp(s.wander) * (1 + 0.5*(daily-1))
	switch {
	case s.outage > 0:
		s.outage--
		bad = s.bad
	case s.happens(s.Outages):
		s.outage, s.bad = 2+s.chance.IntN(12), 0.05+0.4*s.chance.Float64()
	}
	switch {
	case s.storm > 0:
		s.storm--
		requests, bad = requests*4, bad*10
	case s.happens(s.Storms):
		s.storm = 3 + s.chance.IntN(18)
	}
	if s.Dips && s.inside <= 3 {
		bad *= 3
	}
	return requests, bad
}

// own is what a cohort makes of the common share of bad answers by itself; share is its share of the traffic.
func (s *source) own(number int, bad, share float64) float64 {
	c := &s.sides[number]
	if s.Own > 0 {
		c.wander = s.OwnKeeps*c.wander + s.Own*math.Sqrt(1-s.OwnKeeps*s.OwnKeeps)*s.chance.NormFloat64()
		bad *= math.Exp(c.wander - s.Own*s.Own/2)
	}
	if s.happens(s.Regimes) {
		c.worse = !c.worse
	}
	if s.Regimes > 0 && c.worse {
		bad *= 2
	}
	if s.Scatter > 0 {
		bad *= math.Exp(s.Scatter*s.chance.NormFloat64() - s.Scatter*s.Scatter/2)
	}
	if s.Odd > 0 && c.odd { // it has an eighth of its cohort's requests
		bad *= 1 + (s.Odd-1)/8
	}
	switch {
	case c.caller > 0:
		c.caller--
		bad += 0.02
	case s.happens(s.Callers * share):
		c.caller = 2 + s.chance.IntN(12)
	}
	if s.Cold > 0 && number == 1 && s.served <= 4 {
		bad *= s.Cold
	}
	return bad
}

// next makes an interval with so much of the traffic on new, which is worse by so much.
func (s *source) next(share, worse float64) guard.Interval {
	if share != s.share {
		s.share, s.inside = share, 0
	}
	requests, bad := s.common()
	i := guard.Interval{At: time.Unix(0, 0).Add(time.Duration(s.at) * Every)}
	if share < 1 {
		i.Old = s.answers(i.At, requests*(1-share), s.own(0, bad, 1-share))
	}
	if share > 0 {
		s.served++
		i.New = s.answers(i.At, requests*share, s.own(1, bad, share)+worse)
	}
	return i
}

// answers makes what a cohort shows of so many requests on average; nil where it shows nothing.
func (s *source) answers(at time.Time, requests, bad float64) *signal.Point {
	n := s.poisson(requests)
	if n == 0 {
		return nil
	}
	k := 0.0
	if s.Clusters > 1 {
		for range int(s.poisson(n * bad / s.Clusters)) {
			k += 1 + math.Floor(math.Log(1-s.chance.Float64())/math.Log(1-1/s.Clusters))
		}
		k = min(k, n)
	} else {
		k = distuv.Binomial{N: n, P: min(bad, 1), Src: s.chance}.Rand()
	}
	return &signal.Point{At: at, Value: k / n, Tally: signal.Tally{Part: k, Whole: n}}
}

func (s *source) poisson(mean float64) float64 {
	if mean <= 0 {
		return 0
	}
	return distuv.Poisson{Lambda: mean, Src: s.chance}.Rand()
}
