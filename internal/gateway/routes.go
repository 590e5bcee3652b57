package gateway

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/http1"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/upstream"
)

// endpoint is everything that the request path needs of one endpoint. It never changes;
// a new one takes its place.
type endpoint struct {
	id    int64
	name  string
	split int
	// plain are the lanes without their places, for the assignment.
	plain []traffic.Lane
	lanes []*lane
	// shadows are those of the lanes that get copies.
	shadows []*lane
	// headers are sent to the model servers with every request, in lower case and as they
	// are written.
	headers []header
	// keyed endpoints answer only callers whose key has one of the digests.
	keyed   bool
	callers map[[sha256.Size]byte]string
	// targets come before shares.
	targets traffic.Targets
	// repeatable is set when asking a model server twice does no harm.
	repeatable bool
	// takes is what requests are held against; nil where they are not.
	takes *signature.Signature
	// elsewhere endpoints are answered for where the gateway does not reach.
	elsewhere bool
	account
}

type header struct {
	lower string
	line  []byte
}

type lane struct {
	kind traffic.LaneKind
	// position is that in the split.
	position int
	version  string
	number   string
	labels   []string
	// naming says in an answer which version gave it; named is the header that does, as a
	// line.
	naming *oip.Naming
	named  []byte
	// recorder counts what was assigned here, pinned what callers asked for by name.
	recorder, pinned *recorder.Lane
	// model is the path of the model at its servers, start and metadata the beginnings of
	// requests to it.
	model           string
	start, metadata []byte
	addresses       []*upstream.Address
	// share and tolerance are a shadow's, copying how many copies for it are under way.
	share     int
	tolerance float64
	copying   atomic.Int32
}

// lane finds the lane of a version by its ref, its number, or a label of it.
func (e *endpoint) lane(version string) *lane {
	for _, l := range e.lanes {
		if !l.kind.Answers() {
			continue
		}
		if l.version == version || l.number == version || slices.Contains(l.labels, version) {
			return l
		}
	}
	return nil
}

// assign picks the lane for a caller, at random when nothing keeps them on one; who is what does. told is set where a
// rule decided.
func (e *endpoint) assign(x *exchange) (l *lane, who string, told bool) {
	if !e.targets.Any() && e.targets.Sticky == traffic.StickyHeader { // the usual case looks at one header
		who = string(x.head.Get(http1.LadderCaller))
	} else {
		asked := x.asked()
		if lane, at := e.targets.Find(asked); at >= 0 {
			return e.lanes[lane], "", true
		}
		who = e.targets.Who(asked)
	}
	if who != "" {
		return e.lanes[traffic.Assign(e.name, e.plain, who)], who, false
	}
	return e.lanes[traffic.Pick(e.plain, rand.IntN(traffic.Whole))], "", false
}

// asked is what rules may look at.
func (x *exchange) asked() traffic.Asked {
	a := traffic.Asked{Caller: string(x.head.Get(http1.LadderCaller)), Header: x.header}
	if e := x.endpoint; !e.keyed && len(e.callers) > 0 { // a keyed endpoint has looked already
		x.isCaller(e)
	}
	a.Key = x.callerName
	if x.endpoint.targets.Bodies && !x.streamed {
		a.Input = func(name string) (string, bool) { return oip.FirstInput(x.body, name) }
	}
	return a
}

// header is the first field of a name, whatever the case.
func (x *exchange) header(name string) (string, bool) {
	for i := range x.head.Fields {
		if f := &x.head.Fields[i]; len(f.Name) == len(name) && strings.EqualFold(string(f.Name), name) {
			return string(f.Value), true
		}
	}
	return "", false
}

// instead finds a lane to answer when another cannot: main first, then the trial lanes.
func (e *endpoint) instead(tried []*upstream.Address) (*lane, *upstream.Address) {
	for _, kind := range []traffic.LaneKind{traffic.Main, traffic.Trial} {
		for _, l := range e.lanes {
			if l.kind == kind {
				if a := upstream.Choose(l.addresses, tried); a != nil {
					return l, a
				}
			}
		}
	}
	return nil, nil
}

// versions lists the versions that answer for the endpoint.
func (e *endpoint) versions() (out []string) {
	for _, l := range e.lanes {
		if l.kind.Answers() {
			out = append(out, l.version)
		}
	}
	return out
}

func (e *endpoint) describe() string { return e.name + "#" + strconv.Itoa(e.split) }

// find returns the endpoint with a name as it is now, nil when there is none.
func (g *Gateway) find(name []byte) *endpoint {
	if p := (*g.routes.Load())[string(name)]; p != nil {
		return p.Load()
	}
	return nil
}

// Route puts the route of one endpoint in force. When it cannot be, the endpoint goes on
// with the one that it had.
func (g *Gateway) Route(r traffic.Route) error {
	g.swapping.Lock()
	defer g.swapping.Unlock()
	e, made, err := g.compile(r)
	if err != nil {
		return fmt.Errorf("the route of %s cannot be put in force; its last good one goes on: %w", r.Endpoint, err)
	}
	maps.Copy(g.addresses, made)
	var lanes []*recorder.Lane
	for _, l := range e.lanes {
		lanes = append(lanes, l.recorder, l.pinned)
	}
	g.recorder.Follow(r.Endpoint, lanes, r.Watched)
	routes := *g.routes.Load()
	if p := routes[r.Endpoint]; p != nil {
		p.Store(e)
	} else {
		routes = maps.Clone(routes)
		routes[r.Endpoint] = &atomic.Pointer[endpoint]{}
		routes[r.Endpoint].Store(e)
		g.routes.Store(&routes)
	}
	g.forgetAddresses()
	return nil
}

// Endpoints says which endpoints there are; all others are answered for no more.
func (g *Gateway) Endpoints(names []string) {
	g.swapping.Lock()
	defer g.swapping.Unlock()
	routes := maps.Clone(*g.routes.Load())
	for name := range routes {
		if !slices.Contains(names, name) {
			delete(routes, name)
			g.recorder.Follow(name, nil, nil)
		}
	}
	g.routes.Store(&routes)
	g.forgetAddresses()
}

// forgetAddresses ends connections to addresses that no route uses.
func (g *Gateway) forgetAddresses() {
	used := map[string]bool{}
	for _, p := range *g.routes.Load() {
		for _, l := range p.Load().lanes {
			for _, a := range l.addresses {
				used[a.URL+l.model] = true
			}
		}
	}
	for key, a := range g.addresses {
		if !used[key] {
			delete(g.addresses, key) // requests under way keep it until they end
			a.Close()
		}
	}
}

// compile turns a route into what the request path needs; made are the addresses that are
// new. It changes nothing that is in force but what the records say of addresses.
func (g *Gateway) compile(r traffic.Route) (e *endpoint, made map[string]*upstream.Address, err error) {
	e = &endpoint{
		id:         r.ID,
		name:       r.Endpoint,
		split:      r.Split,
		keyed:      r.Keyed,
		callers:    map[[sha256.Size]byte]string{},
		repeatable: r.Repeatable,
		elsewhere:  r.Elsewhere,
		takes:      r.Takes,
		account:    g.accountOf(r.ID, r.Endpoint, r.Requests),
	}
	made = map[string]*upstream.Address{}
	for _, h := range r.Headers {
		e.headers = append(e.headers, header{strings.ToLower(h.Name), []byte(h.Name + ": " + h.Value + "\r\n")})
	}
	for _, c := range r.Callers {
		if len(c.Digest) != sha256.Size {
			return nil, nil, fmt.Errorf("the digest of a caller's key has %d bytes", len(c.Digest))
		}
		e.callers[[sha256.Size]byte(c.Digest)] = c.Name
	}
	for position, rl := range r.Lanes {
		l := g.compileLane(r, rl)
		l.position = position
		for _, ra := range rl.Addresses {
			key := ra.URL + l.model
			a := g.addresses[key]
			if a == nil {
				a = made[key]
			}
			if a == nil {
				if a, err = upstream.New(ra.URL, g.config.Connections, ra.Healthy); err != nil {
					return nil, nil, err
				}
				made[key] = a
			}
			a.Recorded(ra.Healthy)
			l.addresses = append(l.addresses, a)
		}
		e.plain = append(e.plain, rl.Lane)
		e.lanes = append(e.lanes, l)
		if l.kind == traffic.Shadow {
			e.shadows = append(e.shadows, l)
		}
	}
	e.targets, err = traffic.NewTargets(r.Rules, e.plain, r.Sticky)
	return e, made, err
}

func (g *Gateway) compileLane(r traffic.Route, rl traffic.RouteLane) *lane {
	l := &lane{
		kind: rl.Kind, version: rl.Version, labels: rl.Labels, model: oip.ModelPath(rl.Model),
		naming: oip.NewNaming(r.Endpoint, rl.Version), named: []byte(VersionHeader + ": " + rl.Version + "\r\n"),
		share: rl.Share, tolerance: cmp.Or(rl.Tolerance, traffic.UsualTolerance),
	}
	if ref, err := registry.ParseRef("version", rl.Version); err == nil {
		l.number = strconv.Itoa(ref.Number)
	}
	l.start = []byte("POST " + l.model + "/infer HTTP/1.1\r\nHost: ")
	l.metadata = []byte("GET " + l.model + " HTTP/1.1\r\nHost: ")
	key := recorder.Key{Endpoint: r.Endpoint, Split: r.Split, Lane: string(rl.Kind), Version: rl.Version}
	l.recorder = g.recorder.Lane(key)
	key.Lane = recorder.Pinned
	l.pinned = g.recorder.Lane(key)
	return l
}

// Down reports whether a request has found a model down at an address, and no good check has taken
// it into use again.
func (g *Gateway) Down(address, model string) bool {
	g.swapping.Lock()
	defer g.swapping.Unlock()
	a := g.addresses[address+oip.ModelPath(model)]
	return a != nil && a.Down()
}

// MarkUp takes a model at an address into use again that a request had found down; it is
// called after every good check.
func (g *Gateway) MarkUp(address, model string) {
	g.swapping.Lock()
	defer g.swapping.Unlock()
	if a := g.addresses[address+oip.ModelPath(model)]; a != nil {
		a.MarkUp()
	}
}
