package gateway

import (
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/store"

	"github.com/valyala/fasthttp"
)

// table is everything the request path needs. It never changes; a new one takes its
// place.
type table struct{ endpoints map[string]*endpoint }

type endpoint struct {
	id    int64
	name  string
	split int
	// plain are the lanes without their places, for the assignment.
	plain []traffic.Lane
	lanes []*lane
	// headers are sent to the model servers with every request.
	headers []traffic.Header
	// keyed endpoints answer only callers whose key has one of the digests.
	keyed   bool
	callers map[[sha256.Size]byte]bool
}

type lane struct {
	kind traffic.LaneKind
	// position is that in the split.
	position int
	version  string
	number   string
	labels   []string
	// path is the model's at its servers.
	path string
	// header and naming say in an answer which version gave it.
	header []byte
	naming oip.Naming
	// recorder counts what was assigned here, pinned what callers asked for by name.
	recorder, pinned *recorder.Lane
	addresses        []*target
}

// target is one address as a lane uses it, with the URI of its model ready to send to.
type target struct {
	*address
	infer *fasthttp.URI
}

// address is one model at one model server. It outlives the tables, so its connections
// do too. Two models at one server are apart: one may be ready and the other not.
type address struct {
	url    string
	client *fasthttp.HostClient
	// busy is the number of requests it is answering now.
	busy atomic.Int64
	// down is set when it was found unhealthy, by the checks or by a request.
	down atomic.Bool
}

// choose picks the less busy of two random healthy addresses that were not tried yet;
// nil when there is none.
func (l *lane) choose(tried []*target) *target {
	var first, second *target
	seen := 0
	for _, a := range l.addresses {
		if a.down.Load() || contains(tried, a) {
			continue
		}
		// Reservoir sampling of two.
		seen++
		switch {
		case first == nil:
			first = a
		case second == nil:
			second = a
		default:
			if i := rand.IntN(seen); i == 0 {
				first = a
			} else if i == 1 {
				second = a
			}
		}
	}
	if second != nil && second.busy.Load() < first.busy.Load() {
		return second
	}
	return first
}

func contains(list []*target, a *target) bool {
	for _, x := range list {
		if x.address == a.address {
			return true
		}
	}
	return false
}

// lane finds the lane of a version by its ref, its number, or a label of it.
func (e *endpoint) lane(version string) *lane {
	for _, l := range e.lanes {
		if l.version == version || l.number == version || slices.Contains(l.labels, version) {
			return l
		}
	}
	return nil
}

// instead finds a lane to answer when another cannot: main first, then the trial lanes.
func (e *endpoint) instead(tried []*target) (*lane, *target) {
	for _, kind := range []traffic.LaneKind{traffic.Main, traffic.Trial} {
		for _, l := range e.lanes {
			if l.kind == kind {
				if a := l.choose(tried); a != nil {
					return l, a
				}
			}
		}
	}
	return nil, nil
}

// healthy reports whether any lane can answer.
func (e *endpoint) healthy() bool {
	_, a := e.instead(nil)
	return a != nil
}

// Swap puts routes in force, all at once.
func (g *Gateway) Swap(ctx context.Context, routes []traffic.Route) error {
	g.swapping.Lock()
	defer g.swapping.Unlock()
	t := &table{endpoints: map[string]*endpoint{}}
	used, kept := map[string]bool{}, map[*recorder.Lane]bool{}
	for _, r := range routes {
		e := &endpoint{id: r.ID, name: r.Endpoint, split: r.Split, headers: r.Headers, keyed: r.Keyed, callers: map[[sha256.Size]byte]bool{}}
		for _, digest := range r.Callers {
			e.callers[[sha256.Size]byte(digest)] = true
		}
		for position, rl := range r.Lanes {
			l, err := g.compile(ctx, r, rl)
			if err != nil {
				return err
			}
			l.position = position
			for _, a := range l.addresses {
				used[a.url+l.path] = true
			}
			kept[l.recorder], kept[l.pinned] = true, true
			e.plain = append(e.plain, rl.Lane)
			e.lanes = append(e.lanes, l)
		}
		t.endpoints[r.Endpoint] = e
	}
	g.recorder.Keep(kept)
	g.table.Store(t)
	for u, a := range g.addresses {
		if !used[u] {
			delete(g.addresses, u) // requests under way keep it until they end
			a.client.CloseIdleConnections()
		}
	}
	return nil
}

// compile turns one lane of a route into what the request path needs.
func (g *Gateway) compile(ctx context.Context, r traffic.Route, rl traffic.RouteLane) (*lane, error) {
	l := &lane{kind: rl.Kind, version: rl.Version, labels: rl.Labels, path: oip.ModelPath(rl.Model), header: []byte(rl.Version), naming: oip.NewNaming(r.Endpoint, rl.Version)}
	_, l.number, _ = strings.Cut(rl.Version, "@")
	trial := false
	for _, other := range r.Lanes {
		trial = trial || other.Kind == traffic.Trial
	}
	var err error
	key := store.LaneKey{Endpoint: r.Endpoint, Split: r.Split, Lane: string(rl.Kind), Version: rl.Version}
	// Guards need everything since the split came into force; without a trial lane
	// nobody does.
	if l.recorder, err = g.recorder.Lane(ctx, key, r.Since, trial); err != nil {
		return nil, err
	}
	key.Lane = recorder.Pinned
	if l.pinned, err = g.recorder.Lane(ctx, key, r.Since, false); err != nil {
		return nil, err
	}
	for _, ra := range rl.Addresses {
		a := g.addresses[ra.URL+l.path]
		if a == nil {
			if a, err = g.newAddress(ra.URL); err != nil {
				return nil, err
			}
			g.addresses[ra.URL+l.path] = a
		}
		a.down.Store(!ra.Healthy)
		uri := new(fasthttp.URI)
		if err := uri.Parse(nil, []byte(a.url+l.path+"/infer")); err != nil {
			return nil, fmt.Errorf("routing to %q: %w", a.url, err)
		}
		l.addresses = append(l.addresses, &target{a, uri})
	}
	return l, nil
}

func (g *Gateway) newAddress(raw string) (*address, error) {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("routing to %q: not an address", raw)
	}
	host := u.Host
	if u.Port() == "" {
		host += map[string]string{"http": ":80", "https": ":443"}[u.Scheme]
	}
	return &address{url: raw, client: &fasthttp.HostClient{
		Addr: host, IsTLS: u.Scheme == "https",
		MaxConns: g.connections, MaxIdleConnDuration: 30 * time.Second,
		DisablePathNormalizing: true, NoDefaultUserAgentHeader: true,
		ReadBufferSize: 16 << 10, WriteBufferSize: 16 << 10, MaxResponseBodySize: largestBody,
	}}, nil
}

// MarkUp takes a model at an address into use again that a request had found down; the
// conductor calls it after every good check.
func (g *Gateway) MarkUp(address, model string) {
	g.swapping.Lock()
	defer g.swapping.Unlock()
	if a := g.addresses[address+oip.ModelPath(model)]; a != nil {
		a.down.Store(false)
	}
}

// versions lists the versions of the endpoint's lanes.
func (e *endpoint) versions() []string {
	out := make([]string, len(e.lanes))
	for i, l := range e.lanes {
		out[i] = l.version
	}
	return out
}

func (e *endpoint) describe() string {
	return e.name + "#" + strconv.Itoa(e.split)
}
