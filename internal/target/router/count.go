package router

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"time"
	"unsafe"

	"aditus/internal/system"
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

// totals are what a counter has counted. They may lie in a file that is mapped into memory, so that a router that is killed
// leaves them to the next one.
type totals struct {
	requests    [lastStatus - firstStatus + 1]atomic.Uint64
	buckets     [12]atomic.Uint64
	nanoseconds atomic.Int64
	connections atomic.Uint64
}

// totalsSize is how much of a file totals take.
const totalsSize = int(unsafe.Sizeof(totals{}))

// counter counts what an instance answers.
type counter struct{ of *totals }

// answered counts a request with what it came to.
func (c *counter) answered(status int, took time.Duration) {
	defer runtime.KeepAlive(c) // the totals go with it
	c.of.requests[min(max(status, firstStatus), lastStatus)-firstStatus].Add(1)
	c.of.nanoseconds.Add(int64(took))
	seconds, i := took.Seconds(), 0
	for i < len(Bounds) && seconds > Bounds[i] {
		i++
	}
	c.of.buckets[i].Add(1)
}

// connected counts a connection.
func (c *counter) connected() {
	defer runtime.KeepAlive(c)
	c.of.connections.Add(1)
}

func (c *counter) counts() Counts {
	defer runtime.KeepAlive(c)
	out := Counts{Requests: map[int]uint64{}, Buckets: make([]uint64, len(c.of.buckets)), Connections: c.of.connections.Load()}
	for i := range c.of.requests {
		if n := c.of.requests[i].Load(); n > 0 {
			out.Requests[firstStatus+i] = n
		}
	}
	for i := range c.of.buckets {
		out.Buckets[i] = c.of.buckets[i].Load()
	}
	out.Seconds = time.Duration(c.of.nanoseconds.Load()).Seconds()
	return out
}

// openCounter opens the counter of an instance in a folder, or one in memory alone where there is no folder, or no room in it.
func openCounter(folder, id string) *counter {
	if folder != "" {
		if c, err := mapCounter(filepath.Join(folder, id)); err == nil {
			return c
		}
	}
	return &counter{new(totals)}
}

// mapCounter maps a file into memory, which it makes where there is none, for as long as somebody has the counter.
func mapCounter(name string) (*counter, error) {
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|system.NoFollow, 0o600)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil {
		return nil, err
	} else if info.Size() != int64(totalsSize) { // written whole, so that no page of it wants for room later
		_, err := file.WriteAt(make([]byte, totalsSize), 0)
		if err = errors.Join(err, file.Truncate(int64(totalsSize))); err != nil {
			os.Remove(name)
			return nil, err
		}
	}
	page, unmap, err := system.Map(file, totalsSize)
	if err != nil {
		return nil, err
	}
	c := &counter{(*totals)(unsafe.Pointer(&page[0]))} // a map begins at a page: all of it is aligned
	runtime.AddCleanup(c, unmap, page)
	return c, nil
}

// forgetCounter removes the counter of an instance that is gone.
func forgetCounter(folder, id string) {
	if folder != "" {
		os.Remove(filepath.Join(folder, id))
	}
}
