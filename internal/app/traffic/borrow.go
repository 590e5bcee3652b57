package traffic

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Borrowed is a version that a job asks, where it is placed or in a process of its own; whoever borrows it gives it
// back. No lane counts what it is asked.
type Borrowed struct {
	Version     *registry.Version
	Environment string
	// Signature is what it takes, as exactly as is known.
	Signature *signature.Signature

	service *Service
	run     string
	name    string
	width   int
	mu      sync.Mutex
	clients map[string]*oip.Client
	urls    []string
	next    int
	looked  time.Time
	err     error
}

const (
	// lookAgain is how often it is looked where a borrowed version is by now.
	lookAgain = time.Second
	// largestToJob is how long an answer to a job may be.
	largestToJob = 256 << 20
	// jobsWait is how long a model server may take for a request of a job.
	jobsWait = 2 * time.Minute
)

// Named finds out which version is meant, and in which environment: by a ref, or by the endpoint for which it answers
// now. Without an environment it is the only one in which the version is placed; empty where it is in none.
func (s *Service) Named(ctx context.Context, by act.Actor, asked, environment string) (*registry.Version, string,
	error,
) {
	if !strings.Contains(asked, "@") {
		e, err := s.EndpointFor(ctx, by, access.Inspect, asked)
		if err != nil {
			return nil, "", err
		}
		main := e.MainVersion()
		if main == "" {
			return nil, "", fault.New(fault.Refused, "endpoint.empty", "nothing answers for %s yet", e.Name).
				In("version")
		}
		v, err := s.registry.Version(ctx, by, main)
		return v, e.Environment, err
	}
	v, err := s.registry.Version(ctx, by, asked)
	if err != nil {
		return nil, "", err
	}
	if err := by.Need(access.Inspect, v.Project); err != nil {
		return nil, "", err
	}
	if environment != "" {
		p, err := placed(ctx, s.DB.Read(records.Everything), v.Ref, environment)
		if err == nil {
			err = p.CheckReached("version")
		}
		return v, environment, err
	}
	all, err := s.DB.Read(records.Everything).Placements(ctx, v.Ref)
	if err != nil {
		return nil, "", err
	}
	all = slices.DeleteFunc(all, func(p traffic.Placement) bool { return p.Elsewhere })
	if len(all) > 1 {
		var names []string
		for _, p := range all {
			names = append(names, p.Environment)
		}
		return nil, "", fault.New(fault.Invalid, "placement.which", "%s is placed in %s", v.Ref,
			strings.Join(names, ", ")).In("environment").Do("say where it is asked with -env")
	}
	if len(all) == 1 {
		environment = all[0].Environment
	}
	return v, environment, nil
}

// Borrow makes a version ready to be asked by so many at once: where it is placed, or, without an environment, in a
// process that is started for it and ends when it is given back.
func (s *Service) Borrow(ctx context.Context, v *registry.Version, environment string, width int) (*Borrowed, error) {
	b := &Borrowed{
		Version: v, Environment: environment, Signature: v.Signature, service: s, name: v.Model, width: width,
		clients: map[string]*oip.Client{},
	}
	if environment != "" {
		p, err := placed(ctx, s.DB.Read(records.Everything), v.Ref, environment)
		if err == nil {
			err = p.CheckReached("version")
		}
		if err != nil {
			return nil, err
		}
		b.Signature, b.name = p.Exactly(v.Signature), p.ServedAs
		return b, nil
	}
	r, err := s.planRun(v, wire.NewRunner{})
	if err != nil {
		return nil, err
	}
	urls, err := s.begin(ctx, v, r)
	if err != nil {
		if s.runners != nil {
			s.runners.Forget(r.ID)
		}
		return nil, err
	}
	b.run, b.urls = r.ID, urls
	return b, nil
}

// errUnhealthy is said where there is nobody to ask just now.
var errUnhealthy = errors.New("no address of it is healthy")

// Ask sends a request: the status and the body of the answer, or why there was none.
func (b *Borrowed) Ask(ctx context.Context, body []byte) (int, []byte, error) {
	client, url, err := b.where(ctx)
	if err != nil {
		return 0, nil, err
	}
	status, _, answer, err := client.Ask(ctx, url, b.name, body)
	return status, answer, err
}

// where says whom to ask next: addresses come and go while a job goes on.
func (b *Borrowed) where(ctx context.Context) (*oip.Client, string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if now := time.Now(); b.run == "" && now.Sub(b.looked) > lookAgain {
		b.looked = now
		b.err = b.look(ctx)
	}
	if b.err != nil {
		return nil, "", b.err
	}
	if len(b.urls) == 0 {
		return nil, "", errUnhealthy
	}
	url := b.urls[b.next%len(b.urls)]
	b.next++
	if c := b.clients[url]; c != nil {
		return c, url, nil
	}
	c := b.service.servers
	if b.run == "" {
		var err error
		if c, err = b.service.serversIn(ctx, b.Environment, url); err != nil {
			return nil, "", err
		}
	}
	c = c.Wide(b.width, largestToJob).Patient(jobsWait).With(traffic.Header{Name: traffic.CopyHeader, Value: "true"})
	b.clients[url] = c
	return c, url, nil
}

// look finds the addresses that are healthy by now.
func (b *Borrowed) look(ctx context.Context) error {
	p, err := placed(ctx, b.service.DB.Read(records.Everything), b.Version.Ref, b.Environment)
	if err != nil {
		return err
	}
	b.urls = b.urls[:0]
	for _, a := range p.Addresses {
		if a.Healthy {
			b.urls = append(b.urls, a.URL)
		}
	}
	return nil
}

// Said is what a process that was started for it wrote last, some lines; nothing of what is placed.
func (b *Borrowed) Said(lines int) []string {
	if b.run == "" || b.service.runners == nil {
		return nil
	}
	said, err := b.service.runners.Log(b.run, 1, lines)
	if err != nil {
		return nil
	}
	return said
}

// Return gives a version back.
func (b *Borrowed) Return() {
	for _, c := range b.clients {
		c.Close()
	}
	if b.run != "" {
		b.service.runners.Forget(b.run)
	}
}

// Somewhere is an environment in which a version can be asked now, empty where it is placed in none and can be run in a
// process of its own; else it says what it waits for.
func (s *Service) Somewhere(ctx context.Context, v *registry.Version) (string, error) {
	all, err := s.DB.Read(records.Everything).Placements(ctx, v.Ref)
	if err != nil {
		return "", err
	}
	all = slices.DeleteFunc(all, func(p traffic.Placement) bool { return p.Elsewhere })
	for _, p := range all {
		if p.Healthy {
			return p.Environment, nil
		}
	}
	if len(all) > 0 {
		return "", fault.New(fault.Refused, "placement.unhealthy", "%s is not healthy in %s: %s", v.Ref,
			all[0].Environment, all[0].Reason()).In("version").Do("wait, or place it elsewhere")
	}
	if s.runners == nil {
		return "", fault.New(fault.Refused, "placement.none", "%s is placed nowhere", v.Ref).In("version").
			Do("place it with: innerladder place %s -env ENVIRONMENT -at URL", v.Ref)
	}
	if _, err := s.planRun(v, wire.NewRunner{}); err != nil {
		why := err.Error()
		if known := (*fault.Fault)(nil); errors.As(err, &known) {
			why = known.Detail
		}
		return "", fault.New(fault.Refused, "placement.none", "%s is placed nowhere, and cannot be run here: %s", v.Ref,
			why).In("version").Do("place it with: innerladder place %s -env ENVIRONMENT -at URL", v.Ref)
	}
	return "", nil
}
