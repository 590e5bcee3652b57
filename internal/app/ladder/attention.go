package ladder

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
)

// lookAnyway is how often every promotion is looked at even if nothing is known to have
// changed: a file that rots tells nobody.
const lookAnyway = 10 * time.Minute

// attention knows which promotions have to be looked at: those of projects and models in which
// something changed, and those whose own time has come.
type attention struct {
	mu sync.Mutex
	// nextAll is when all are looked at; at first at once.
	nextAll  time.Time
	projects map[string]bool
	models   map[string]bool
	// next is when the own time of a promotion comes, by its id.
	next map[string]time.Time
}

// wanted are the promotions that have to be looked at now.
type wanted struct {
	all              bool
	projects, models []string
	ids              []string
}

// filters find those that are wanted by where they are.
func (w wanted) filters() (out []records.PromotionFilter) {
	if w.all {
		return []records.PromotionFilter{{}}
	}
	for _, project := range w.projects {
		out = append(out, records.PromotionFilter{Project: project})
	}
	for _, model := range w.models {
		out = append(out, records.PromotionFilter{Model: model})
	}
	return out
}

// noted takes entries of the record that were confirmed. What an entry is about names the model
// whose promotions may depend on it; ladders, traffic and people concern the whole project.
func (a *attention) noted(_ context.Context, entries []record.Entry) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, e := range entries {
		switch kind, _, _ := strings.Cut(e.Kind, "."); {
		case kind == "member", kind == "role", e.Kind == "person.changed":
			a.nextAll = time.Time{}
		case kind == "ladder", kind == "split", kind == "endpoint", kind == "placement", kind == "contract":
			a.want(&a.projects, e.Project)
		default:
			for _, subject := range append([]string{e.Subject}, e.Also...) {
				if ref, err := registry.ParseRef("subject", subject); err == nil {
					a.want(&a.models, ref.Model)
				}
			}
		}
	}
}

func (a *attention) want(set *map[string]bool, name string) {
	if *set == nil {
		*set = map[string]bool{}
	}
	(*set)[name] = true
}

// take gives what has to be looked at now, and counts it as looked at.
func (a *attention) take(now time.Time) (w wanted) {
	a.mu.Lock()
	defer a.mu.Unlock()
	// A clock that was set back must not keep everything from being looked at.
	if !now.Before(a.nextAll) || a.nextAll.Sub(now) > lookAnyway {
		a.nextAll = now.Add(lookAnyway)
		a.projects, a.models, a.next = nil, nil, nil
		return wanted{all: true}
	}
	w.projects, w.models = slices.Sorted(maps.Keys(a.projects)), slices.Sorted(maps.Keys(a.models))
	a.projects, a.models = nil, nil
	for id, at := range a.next {
		if !at.After(now) {
			w.ids = append(w.ids, id)
			delete(a.next, id)
		}
	}
	slices.Sort(w.ids)
	return w
}

// again has everything that was taken looked at once more.
func (a *attention) again(w wanted) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if w.all {
		a.nextAll = time.Time{}
	}
	for _, p := range w.projects {
		a.want(&a.projects, p)
	}
	for _, m := range w.models {
		a.want(&a.models, m)
	}
	for _, id := range w.ids {
		if a.next == nil {
			a.next = map[string]time.Time{}
		}
		a.next[id] = time.Time{}
	}
}

// at says when the own time of a promotion comes next; the zero time is never.
func (a *attention) at(id string, next time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if next.IsZero() {
		delete(a.next, id)
		return
	}
	if a.next == nil {
		a.next = map[string]time.Time{}
	}
	a.next[id] = next
}
