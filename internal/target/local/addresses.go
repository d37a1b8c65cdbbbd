package local

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"aditus/internal/core/declare"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/router"
	"aditus/internal/target/wanted"
)

// Instances are told where others are by addresses that stay: for each that a part of a cohort declares, a port of this machine
// whose connections the router leads to the instances that are ready. Within a workload those are of the same cohort,
// or of both by their shares where the part itself is of both; of another workload they are those that have its traffic. The number is chosen once, from the
// upper half of the site's ports, and remembered with the cohort.

// addressed sees to it that all addresses which a workload's instances are told have their numbers.
func (s *Site) addressed(workload string) error {
	missing := map[declare.Fingerprint][]string{}
	s.book.Read(workload, func(cohorts map[declare.Fingerprint]*wanted.Cohort) {
		for revision, c := range cohorts {
			for from, part := range c.Parts {
				for _, ref := range part.References() {
					if name, ok := addressName(workload, from, c, ref); ok && c.Addresses[name] == 0 && !slices.Contains(missing[revision], name) {
						missing[revision] = append(missing[revision], name)
					}
				}
			}
		}
	})
	for _, revision := range slices.Sorted(maps.Keys(missing)) {
		for _, name := range missing[revision] {
			port, err := s.freeAddress(workload + "/" + string(revision) + "/" + name)
			if err != nil {
				return err
			}
			if err := s.book.Address(workload, revision, name, port); err != nil {
				return err
			}
		}
	}
	return nil
}

// addressName names what a reference is about among a cohort's addresses: the part that is told, and WORKLOAD/PART/PORT. It is false where
// there is no such port.
func addressName(workload, from string, c *wanted.Cohort, ref declare.Reference) (name string, ok bool) {
	if ref.Host {
		return "", false
	}
	other, port := cmp.Or(ref.Workload, workload), ref.Port
	if port == "" && other == workload {
		for only := range c.Parts[ref.Part].Ports {
			port = only
		}
	}
	return from + "/" + other + "/" + ref.Part + "/" + port, port != "" || other != workload
}

// reaches tells what an address leads to.
func reaches(name string) (workload, part, port string) {
	fields := strings.SplitN(name, "/", 4)
	return fields[1], fields[2], fields[3]
}

// freeAddress chooses a port that nobody listens on and no cohort of the site has.
func (s *Site) freeAddress(what string) (int, error) {
	taken := map[int]bool{}
	for _, workload := range s.book.Workloads() {
		s.book.Read(workload, func(cohorts map[declare.Fingerprint]*wanted.Cohort) {
			for _, c := range cohorts {
				for _, port := range c.Addresses {
					taken[port] = true
				}
			}
		})
	}
	h := fnv.New32a()
	h.Write([]byte(s.Name + "/" + what))
	first, last := (s.Ports[0]+s.Ports[1]+1)/2, s.Ports[1]
	n := last - first + 1
	for i := range n {
		port := first + (int(h.Sum32()%uint32(n))+i)%n
		if taken[port] {
			continue
		}
		if listener, err := net.Listen("tcp", net.JoinHostPort(keeper.Host, strconv.Itoa(port))); err == nil {
			listener.Close()
			return port, nil
		}
	}
	return 0, fmt.Errorf("no port from %d to %d is free for %s to be told where others are: give the site more with ports: in the settings", first, last, what)
}

// address gives the addresses that instances of a cohort's part are told.
func (s *Site) address(workload, from string, c *wanted.Cohort) func(declare.Reference) (string, bool) {
	return func(ref declare.Reference) (string, bool) {
		if ref.Host {
			return keeper.Host, true
		}
		name, ok := addressName(workload, from, c, ref)
		return strconv.Itoa(c.Addresses[name]), ok && c.Addresses[name] != 0
	}
}

// ways are the routes that lead the addresses of a workload's cohorts. others gives the cohorts of another workload.
func ways(workload string, cohorts map[declare.Fingerprint]*wanted.Cohort, others func(string) map[declare.Fingerprint]*wanted.Cohort) (all []keeper.Route) {
	type way struct {
		name string
		of   map[declare.Fingerprint]*wanted.Cohort // that it is an address of
	}
	byPort := map[int]way{}
	for revision, c := range cohorts {
		for name, port := range c.Addresses {
			if byPort[port].of == nil {
				byPort[port] = way{name, map[declare.Fingerprint]*wanted.Cohort{}}
			}
			byPort[port].of[revision] = c
		}
	}
	for _, port := range slices.Sorted(maps.Keys(byPort)) {
		of, part, named := reaches(byPort[port].name)
		r := keeper.Route{Workload: workload, Port: named, Route: router.Route{Name: workload + "/" + byPort[port].name + "/" + strconv.Itoa(port), TCP: port, Local: true}}
		theirs := byPort[port].of
		switch {
		case of != workload:
			theirs = others(of)
		case wanted.OfBoth(cohorts, part):
			theirs = cohorts
		}
		alone := len(theirs) == 1 || wanted.OfBoth(theirs, part)
		for _, revision := range newestFirst(theirs) {
			c := theirs[revision]
			own := router.Cohort{Name: string(revision), Share: c.Share}
			for _, in := range c.Instances {
				if in.Part == part {
					own.Instances = append(own.Instances, router.Instance{ID: in.ID})
				}
			}
			if alone {
				if own.Share = 0; len(own.Instances) > 0 {
					own.Share = 1
				}
			}
			if r.Port == "" {
				for only := range c.Parts[part].Ports {
					r.Port = only
				}
			}
			r.Cohorts = append(r.Cohorts, own)
		}
		all = append(all, r)
	}
	return all
}
