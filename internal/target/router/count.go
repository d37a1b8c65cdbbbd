package router

import (
	"sync/atomic"
	"time"
)

// Bounds are the upper bounds of the histogram of answers, in seconds.
var Bounds = []float64{0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10}

// Counts are what an instance has answered since the router knows it. All are totals that only grow.
type Counts struct {
	Requests    map[int]uint64 `json:"requests,omitempty"` // by status; 502 where it gave no answer, or only a part of one, 504 where nobody could wait for it any longer
	Buckets     []uint64       `json:"buckets,omitempty"`  // answers by Bounds, and one for those beyond; not cumulative
	Seconds     float64        `json:"seconds,omitempty"`  // that all answers took together
	Connections uint64         `json:"connections,omitempty"`
	Pending     int64          `json:"pending,omitempty"` // requests and connections under way
	Ready       bool           `json:"ready"`
}

// firstStatus and lastStatus bound the statuses that are counted apart.
const firstStatus, lastStatus = 100, 599

type counter struct {
	requests    [lastStatus - firstStatus + 1]atomic.Uint64
	buckets     [12]atomic.Uint64
	nanoseconds atomic.Int64
	connections atomic.Uint64
}

// answered counts a request with what it came to.
func (c *counter) answered(status int, took time.Duration) {
	c.requests[min(max(status, firstStatus), lastStatus)-firstStatus].Add(1)
	c.nanoseconds.Add(int64(took))
	seconds, i := took.Seconds(), 0
	for i < len(Bounds) && seconds > Bounds[i] {
		i++
	}
	c.buckets[i].Add(1)
}

func (c *counter) counts() Counts {
	out := Counts{Requests: map[int]uint64{}, Buckets: make([]uint64, len(c.buckets)), Connections: c.connections.Load()}
	for i := range c.requests {
		if n := c.requests[i].Load(); n > 0 {
			out.Requests[firstStatus+i] = n
		}
	}
	for i := range c.buckets {
		out.Buckets[i] = c.buckets[i].Load()
	}
	out.Seconds = time.Duration(c.nanoseconds.Load()).Seconds()
	return out
}
