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
	Name      string
	Requests  float64 // per interval, on average
	Bad       float64 // share of bad answers
	Instances int     // of each cohort, that share its requests evenly; 4 where it is 0

	// What hits both cohorts.
	Daily   float64 // swing of both over a day, as a share
	Drift   float64 // how much the logarithm of the bad share wanders in an interval
	Memory  float64 // how much of that carries over to the next one; 0.94 where it is 0
	Mix     float64 // how many times as often requests of a second kind go bad, whose part of all wanders between 5 % and 50 %
	Bursts  float64 // chance of three times the requests
	Outages float64 // chance that an outage begins: up to 45 % bad answers for 2 to 13 intervals
	Lasts   int     // intervals that an outage lasts, where that is always the same
	Storms  float64 // chance that a retry storm begins: four times the requests, and bad answers ten times as often, for 3 to 20
	Dips    bool    // with every new share both have three times the bad answers for three intervals

	// What hits one cohort alone, or each instance alone.
	Scatter  float64 // how much the logarithm of its bad share scatters from interval to interval
	Own      float64 // and wanders, with OwnKeeps of it carried over to the next interval
	OwnKeeps float64
	Regimes  float64    // chance that it changes between its usual bad share and twice that
	Each     bool       // Own and Regimes are of each instance by itself
	Clusters float64    // bad answers come in groups of so many, on average
	Callers  float64    // chance that a caller comes who sticks to one cohort, with 2 % of its requests and all of them bad, for 2 to 13
	Odd      [2]float64 // how many times as many bad answers one instance gives, of old and of new
	Cold     float64    // how many times as many bad answers an instance gives when it begins to serve
	ColdFor  float64    // intervals in which that goes down to a third; at once after four where it is 0

	// What is seen of it.
	Lost  float64 // chance that what one cohort showed cannot be read
	Skew  float64 // up to which part of an interval each instance is read too early
	Churn float64 // chance that an instance goes and another comes, whose counters begin at nought

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
		{Name: "wandering mix", Mix: 4},
		{Name: "bursts of load", Daily: 0.3, Bursts: 0.1},
		{Name: "outages of both", Outages: 0.01},
		{Name: "retry storms", Storms: 0.01},
		{Name: "dips at stage changes", Dips: true},
		{Name: "scattered by cohort", Scatter: 0.4},
		{Name: "own noise, short memory", Own: 0.25, OwnKeeps: 0.6},
		{Name: "own noise, long memory", Own: 0.25, OwnKeeps: 0.95, Unlike: true},
		{Name: "each instance's own noise", Own: 0.4, OwnKeeps: 0.95, Each: true},
		{Name: "regimes of one cohort", Regimes: 0.03, Unlike: true},
		{Name: "regimes of each instance", Regimes: 0.03, Each: true},
		{Name: "clustered errors", Clusters: 5},
		{Name: "sticky callers", Callers: 0.01, Unlike: true},
		{Name: "an odd instance of old", Odd: [2]float64{3, 0}},
		{Name: "an odd instance of new", Odd: [2]float64{0, 3}},
		{Name: "cold starts", Cold: 5},
		{Name: "caches that fill", Cold: 3, ColdFor: 8},
		{Name: "lost scrapes", Lost: 0.2, Daily: 0.3},
		{Name: "skewed scrapes", Skew: 0.5, Daily: 0.3, Bursts: 0.05},
		{Name: "instances come and go", Churn: 0.01, Daily: 0.3},
		{Name: "all of it", Daily: 0.4, Drift: 0.03, Bursts: 0.05, Scatter: 0.3, Outages: 0.005, Skew: 0.3, Churn: 0.003},
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
	mix    float64 // and the mix
	outage int     // intervals that the present outage still lasts
	bad    float64 // during it
	storm  int     // intervals that the present storm still lasts
	at     int
	share  float64
	inside int // intervals under the present share
	sides  [2]side
}

// side is what one cohort does by itself, and its instances.
type side struct {
	own
	caller    int // intervals that a caller still stays
	instances []instance
}

// instance is one of a cohort.
type instance struct {
	own
	number int // how many there were before it
	served int // intervals
}

// own is a noise with a memory.
type own struct {
	wander float64
	worse  bool // of two regimes
}

// usually is how many instances a cohort has.
const usually = 4

func (t Traffic) start(seed uint64) *source {
	chance := rand.New(rand.NewPCG(seed, 0xad1705))
	s := &source{Traffic: t, chance: chance, hour: 24 * chance.Float64(), mix: chance.NormFloat64()}
	if s.Instances == 0 {
		s.Instances = usually
	}
	begin := func() own { return own{s.Own * chance.NormFloat64(), chance.IntN(2) == 0} }
	for i := range s.sides {
		s.sides[i] = side{own: begin(), instances: make([]instance, s.Instances)}
		for n := range s.sides[i].instances {
			s.sides[i].instances[n] = instance{own: begin(), number: n}
		}
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
	if s.Mix > 0 {
		s.mix = 0.97*s.mix + math.Sqrt(1-0.97*0.97)*s.chance.NormFloat64()
		bad *= 1 + (s.Mix-1)*(0.05+0.45/(1+math.Exp(-2*s.mix)))
	}
	switch {
	case s.outage > 0:
		s.outage--
		bad = s.bad
	case s.happens(s.Outages):
		if s.outage, s.bad = 2+s.chance.IntN(12), 0.05+0.4*s.chance.Float64(); s.Lasts > 0 {
			s.outage = s.Lasts
		}
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

// times is how many times as many answers are bad by a noise, as of now.
func (s *source) times(o *own) (times float64) {
	times = 1
	if s.Own > 0 {
		o.wander = s.OwnKeeps*o.wander + s.Own*math.Sqrt(1-s.OwnKeeps*s.OwnKeeps)*s.chance.NormFloat64()
		times = math.Exp(o.wander - s.Own*s.Own/2)
	}
	if s.happens(s.Regimes) {
		o.worse = !o.worse
	}
	if s.Regimes > 0 && o.worse {
		times *= 2
	}
	return times
}

// serves makes what a cohort with a share of the traffic shows of so many requests, of which so many are bad by no fault of its
// own, in all of its instances.
func (s *source) serves(number int, requests, bad, share, worse float64) []signal.Tally {
	c := &s.sides[number]
	if !s.Each {
		bad *= s.times(&c.own)
	}
	if s.Scatter > 0 {
		bad *= math.Exp(s.Scatter*s.chance.NormFloat64() - s.Scatter*s.Scatter/2)
	}
	switch {
	case c.caller > 0:
		c.caller--
		bad += 0.02
	case s.happens(s.Callers * share):
		c.caller = 2 + s.chance.IntN(12)
	}
	shown := make([]signal.Tally, len(c.instances))
	for n := range c.instances {
		i := &c.instances[n]
		if s.happens(s.Churn) {
			*i = instance{own: i.own, number: i.number + s.Instances}
		}
		bad := bad
		if s.Each {
			bad *= s.times(&i.own)
		}
		if odd := s.Odd[number]; odd > 0 && n == 0 {
			bad *= odd
		}
		if i.served++; s.Cold > 0 && number == 1 {
			bad *= s.cold(float64(i.served))
		}
		shown[n] = s.answers(requests/float64(len(c.instances)), bad+worse)
	}
	return shown
}

// cold is how many times as many bad answers an instance gives in an interval after it began to serve.
func (s *source) cold(served float64) float64 {
	switch {
	case s.ColdFor > 0:
		return 1 + (s.Cold-1)*math.Exp(-served/s.ColdFor)
	case served <= 4:
		return s.Cold
	}
	return 1
}

// shown is what both cohorts showed in an interval, by instance.
type shown struct{ old, new []signal.Tally }

// next makes an interval with so much of the traffic on new, which is worse by so much.
func (s *source) next(share, worse float64) (i shown) {
	if share != s.share {
		s.share, s.inside = share, 0
	}
	requests, bad := s.common()
	if share < 1 {
		i.old = s.serves(0, requests*(1-share), bad, 1-share, 0)
	}
	if share > 0 {
		i.new = s.serves(1, requests*share, bad, share, worse)
	}
	return i
}

// interval is what was shown as a guard takes it.
func (s *source) interval(i shown) guard.Interval {
	at := time.Unix(0, 0).Add(time.Duration(s.at) * Every)
	together := func(all []signal.Tally) *signal.Point {
		sum := total(all)
		if sum.Whole == 0 {
			return nil
		}
		return &signal.Point{At: at, Value: sum.Part / sum.Whole, Tally: sum}
	}
	return guard.Interval{At: at, Old: together(i.old), New: together(i.new)}
}

func total(all []signal.Tally) (sum signal.Tally) {
	for _, t := range all {
		sum = sum.Add(t)
	}
	return sum
}

// answers makes what an instance shows of so many requests on average.
func (s *source) answers(requests, bad float64) signal.Tally {
	n, k := s.poisson(requests), 0.0
	switch {
	case n == 0:
	case s.Clusters > 1:
		for range int(s.poisson(n * bad / s.Clusters)) {
			k += 1 + math.Floor(math.Log(1-s.chance.Float64())/math.Log(1-1/s.Clusters))
		}
		k = min(k, n)
	default:
		k = s.binomial(n, min(bad, 1))
	}
	return signal.Tally{Part: k, Whole: n}
}

// part is about so much of what an instance showed.
func (s *source) part(t signal.Tally, share float64) signal.Tally {
	bad := s.binomial(t.Part, share)
	return signal.Tally{Part: bad, Whole: bad + s.binomial(t.Whole-t.Part, share)}
}

func (s *source) binomial(n, p float64) float64 {
	if n == 0 || p == 0 {
		return 0
	}
	return distuv.Binomial{N: n, P: p, Src: s.chance}.Rand()
}

func (s *source) poisson(mean float64) float64 {
	if mean <= 0 {
		return 0
	}
	return distuv.Poisson{Lambda: mean, Src: s.chance}.Rand()
}
