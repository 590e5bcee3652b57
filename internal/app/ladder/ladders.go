package ladder

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/standing"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Ladder is the ladder of a project, in a revision or as it is now (0).
func (s *Service) Ladder(ctx context.Context, by act.Actor, project string) (ladder.Revision, error) {
	if err := by.May(access.Read); err != nil {
		return ladder.Revision{}, err
	}
	r := s.Read(by)
	if err := s.people.CheckProject(ctx, r, project); err != nil {
		return ladder.Revision{}, err
	}
	return r.Ladder(ctx, project)
}

// LadderRevisions lists the revisions of a project's ladder, newest first.
func (s *Service) LadderRevisions(ctx context.Context, by act.Actor, project string,
	p records.Page,
) (wire.Listed[ladder.Revision], error) {
	if _, err := s.Ladder(ctx, by, project); err != nil {
		return wire.Listed[ladder.Revision]{}, err
	}
	return act.List(s.Base, by, func(r records.View) ([]ladder.Revision, string, error) {
		return r.LadderRevisions(ctx, project, p)
	})
}

// SetLadder makes the next revision of a project's ladder. What stands or waits on the
// present one must find its place on the new one. based is the revision that it was made
// from, -1 for any.
func (s *Service) SetLadder(ctx context.Context, by act.Actor, project string, l ladder.Ladder, reason string,
	based int,
) (ladder.Revision, error) {
	if err := l.Check(); err != nil {
		return ladder.Revision{}, err
	}
	if err := naming.CheckReason(reason,
		"say why the ladder changes; it is read when someone asks what was demanded then"); err != nil {
		return ladder.Revision{}, err
	}
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (ladder.Revision, error) {
		if err := s.people.CheckProject(ctx, t.View, project); err != nil {
			return ladder.Revision{}, err
		}
		if err := t.Need(project); err != nil {
			return ladder.Revision{}, err
		}
		now, err := t.Ladder(ctx, project)
		if err != nil {
			return now, err
		}
		if based >= 0 && based != now.Number {
			return now, fault.New(fault.Stale, "ladder.changed", "the ladder of %s is at revision %d, not %d", project,
				now.Number, based).In("If-Match").Do("look at it, and decide again")
		}
		if reflect.DeepEqual(now.Ladder, l) {
			return now, fault.New(fault.Refused, "ladder.same", "the ladder of %s is like this already", project).
				Do("nothing needs doing")
		}
		if err := s.checkLadderFits(ctx, t.View, project, l); err != nil {
			return now, err
		}
		next := ladder.Revision{Project: project, Ladder: l, Author: t.By.Name, Reason: reason, MadeAt: t.Now}
		if err := t.AddLadder(ctx, &next); err != nil {
			return next, err
		}
		return next, t.Note(ctx, act.Entry{
			Project: project, Kind: "ladder.changed", Subject: project, Reason: reason,
			Before: now.Ladder, After: next.Ladder,
			Sentence: fmt.Sprintf("The ladder of %s was changed to revision %d: %s.", project, next.Number,
				strings.Join(l.Names(), " → ")),
		})
	})
}

// checkLadderFits refuses a ladder on which something of the project has no place, or
// which names what there is not.
func (s *Service) checkLadderFits(ctx context.Context, r records.View, project string, l ladder.Ladder) error {
	uses, err := r.RungUses(ctx, project)
	if err != nil {
		return err
	}
	refuse := func(code, why string, args ...any) *fault.Fault {
		return fault.New(fault.Refused, code, why, args...).In("rungs")
	}
	for _, rung := range slices.Sorted(maps.Keys(uses)) {
		u := uses[rung]
		h := l.Height(rung)
		switch {
		case rung == ladder.Retired:
		case h < 0 && u.Versions > 0:
			return refuse("ladder.in_use",
				"%d versions stand on %s, %s among them, and the new ladder has no such rung", u.Versions, rung,
				u.Example).Do("keep the rung, or retire them first")
		case h < 0 && len(u.Endpoints) > 0:
			return refuse("ladder.in_use", "%s demands the rung %s, and the new ladder has no such rung",
				strings.Join(u.Endpoints, ", "), rung).Do("keep the rung")
		case h < 0 && len(u.Promotions) > 0:
			return refuse("ladder.in_use", "%s asks for %s, and the new ladder has no such rung",
				strings.Join(u.Promotions, ", "), rung).Do("keep the rung, or answer them first")
		case h >= 0 && len(u.Labels) > 0:
			return refuse("ladder.label", "a rung cannot be called %s: there is the label %s", rung,
				strings.Join(u.Labels, ", ")).Do("choose another name, or remove the label")
		case h >= 0 && l.Rungs[h].HoldsOne && u.Most > 1:
			return refuse("ladder.holds_one",
				"%d versions of one model stand on %s, %s among them, which would hold one", u.Most, rung, u.Example).
				Do("retire all but one, or let it hold many")
		}
	}
	own, err := r.Roles(ctx)
	if err != nil {
		return err
	}
	var roles []string
	for _, role := range append(access.BuiltIn(), own...) {
		roles = append(roles, role.Name)
	}
	environments, err := r.Environments(ctx)
	if err != nil {
		return err
	}
	for i, rung := range l.Rungs {
		wanted := slices.Concat(rung.Ask, rung.Sign)
		for _, q := range rung.Gate {
			switch demanded := q.Rule.(type) {
			case rule.SignOffs:
				wanted = append(wanted, demanded.Roles...)
			case rule.Placed:
				if !slices.ContainsFunc(environments,
					func(e traffic.Environment) bool { return e.Name == demanded.Environment }) {
					return fault.New(fault.Invalid, "environment.unknown",
						"the gate of %s names the environment %q, which there is not", rung.Name, demanded.Environment).
						In(fmt.Sprintf("rungs[%d].gate", i)).
						Do("add it with: innerladder environment add %s", demanded.Environment)
				}
			}
		}
		for _, name := range wanted {
			if !slices.Contains(roles, name) {
				return fault.New(fault.Invalid, "role.unknown", "the rung %s names the role %q, which there is not",
					rung.Name, name).In(fmt.Sprintf("rungs[%d]", i)).Do("%s", act.Exist("roles", roles))
			}
		}
	}
	return nil
}

// previewedPerModel is how many versions of each model are listed.
const previewedPerModel = 5

// TryLadder finds out what a ladder would let pass today: every version of the project is
// judged for the next rung. nil is the ladder as it is.
func (s *Service) TryLadder(ctx context.Context, by act.Actor, project string,
	l *ladder.Ladder,
) (ladder.Preview, error) {
	out := ladder.Preview{Project: project, Rungs: []ladder.RungPreview{}, Versions: []ladder.VersionPreview{}}
	now, err := s.Ladder(ctx, by, project)
	if err != nil {
		return out, err
	}
	r := s.Read(by)
	if l == nil {
		l = &now.Ladder
	} else {
		if err := l.Check(); err != nil {
			return out, err
		}
		if err := s.checkLadderFits(ctx, r, project, *l); err != nil {
			out.Refused = err.Error()
		}
	}
	versions, err := r.JudgedVersions(ctx, project, needsOf(*l))
	if err != nil {
		return out, err
	}
	asked, err := s.waitingByVersion(ctx, r, project)
	if err != nil {
		return out, err
	}
	there, err := s.answeringNow(ctx, r, project)
	if err != nil {
		return out, err
	}
	s.preview(&out, *l, versions, there, asked)
	return out, nil
}

// needsOf is what the gates of a ladder look at.
func needsOf(l ladder.Ladder) records.GateNeeds {
	return records.GateNeeds{
		Metrics: l.MetricsOf(), Signature: l.Wants("signature_not_broken"), Card: l.Wants("card_sections"),
		Lineage: l.Wants("lineage"), Needs: l.Wants("no_denied_dependency"),
		Evidence: true, Places: l.Wants("placed") || l.Wants("signature_not_broken"), Trainers: l.Wants("sign_offs"),
	}
}

// waitingByVersion finds the promotions that can still be answered, by version and rung.
func (s *Service) waitingByVersion(ctx context.Context, r records.View,
	project string,
) (map[string]*ladder.Promotion, error) {
	waiting, err := s.waiting(ctx, r, records.PromotionFilter{Project: project})
	if err != nil {
		return nil, err
	}
	out := map[string]*ladder.Promotion{}
	for i := range waiting {
		out[waiting[i].Version+" "+waiting[i].To] = &waiting[i]
	}
	return out, nil
}

// answering is what answers for the endpoints of a project, what their callers rely on, and what new versions are
// evaluated on, by model.
type answering struct {
	versions  map[string][]ladder.Answering
	contracts map[string][]traffic.Decided
	standing  map[string]*standing.Standing
	cases     map[string]string
}

func (s *Service) answeringNow(ctx context.Context, r records.View, project string) (a answering, err error) {
	if a.versions, err = r.Answering(ctx, project, ""); err != nil {
		return a, err
	}
	if a.contracts, err = r.ContractsToKeep(ctx, project, ""); err != nil {
		return a, err
	}
	all, err := r.AllStanding(ctx, project)
	a.standing = map[string]*standing.Standing{}
	for i := range all {
		a.standing[all[i].Model] = &all[i]
	}
	if err != nil {
		return a, err
	}
	cases, err := r.AllCases(ctx, project)
	a.cases = map[string]string{}
	for i := range cases {
		a.cases[cases[i].Model] = cases[i].ID()
	}
	return a, err
}

// factsInBulk prepares what the gates look at for all versions of a project, and gives it for
// one that asks for a rung. The bytes of files are not read for it.
func (s *Service) factsInBulk(l ladder.Ladder, versions []records.Judged,
	there answering, now time.Time,
) func(version, to string) (f rule.Facts, known bool) {
	onRung := map[[2]string]*records.Judged{} // who stepped last, by model and rung
	byRef := map[string]*records.Judged{}
	for i := range versions {
		v := &versions[i]
		byRef[v.Ref] = v
		key := [2]string{v.Model, v.Rung}
		if there := onRung[key]; there == nil || v.RungSince.After(there.RungSince) ||
			(v.RungSince.Equal(there.RungSince) && v.Number > there.Number) {
			onRung[key] = v
		}
	}
	stored, frozen := s.blobs.Present(), l.Frozen(now)
	return func(version, to string) (rule.Facts, bool) {
		v, known := byRef[version]
		if !known {
			return rule.Facts{}, false
		}
		f := rule.Facts{
			Version: &v.Version, MetricCount: v.MetricCount, MeasuredCount: v.MeasuredCount,
			Evidence: v.Evidence, Places: v.Places,
			Trainers: v.Trainers, Frozen: &frozen, Now: now,
		}
		for _, d := range v.Stored {
			if stored(d) {
				f.StoredArtifacts++
			}
		}
		stands := ""
		if there := onRung[[2]string{v.Model, to}]; there != nil {
			stands = there.Ref
		}
		f.Contracts, f.Standing = there.contracts[v.Model], there.standing[v.Model]
		f.Cases = there.cases[v.Model]
		if than := byRef[ladder.Incumbent(v.Ref, there.versions[v.Model], stands)]; than != nil {
			f.Incumbent = &than.Version
			f.IncumbentAnswers = slices.ContainsFunc(there.versions[v.Model], func(a ladder.Answering) bool {
				return a.Version == than.Ref
			})
		}
		return f, true
	}
}

// preview judges versions for the next rung of a ladder.
func (s *Service) preview(out *ladder.Preview, l ladder.Ladder, versions []records.Judged,
	there answering, asked map[string]*ladder.Promotion,
) {
	now := s.Now()
	rungs := make([]ladder.RungPreview, len(l.Rungs))
	for i, r := range l.Rungs {
		rungs[i] = ladder.RungPreview{Rung: r.Name, Open: []ladder.OpenRequirement{}}
	}
	facts := s.factsInBulk(l, versions, there, now)
	listed := map[string]int{}
	for i := range slices.Backward(versions) {
		v := &versions[i]
		h := l.Height(v.Rung)
		if h < 0 || h == len(l.Rungs)-1 {
			continue
		}
		to := l.Rungs[h+1].Name
		f, _ := facts(v.Ref, to)
		p := &ladder.Promotion{Version: v.Ref, State: ladder.Open}
		if a := asked[v.Ref+" "+to]; a != nil {
			copied := *a
			p = &copied
		}
		p.From, p.To = v.Rung, to
		l.Judge(p, f)
		state := "pass"
		for _, finding := range p.Findings {
			if finding.State == rule.Passed {
				continue
			}
			if !finding.ByPeople {
				state = "blocked"
			} else if state == "pass" {
				state = "people"
			}
			rungs[h+1].KeepBack(finding)
		}
		out.Judged++
		rungs[h+1].Count(state)
		if listed[v.Model]++; listed[v.Model] <= previewedPerModel {
			out.Versions = append(out.Versions, ladder.VersionPreview{
				Version: v.Ref, From: v.Rung, To: to, State: state, Findings: p.Findings,
			})
		}
	}
	out.Rungs = rungs[1:]
}
