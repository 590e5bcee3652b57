package record

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/app/notices"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// IndexRecord brings the index that searches use up to date.
func (s *Service) IndexRecord(ctx context.Context) error { return s.DB.IndexRecord(ctx) }

// mostMissed is how many lines a listener may have missed and still take up where it was.
const mostMissed = 5000

// Missed hands a listener that takes up again every line of the record after the last that
// it saw, oldest first, until it says no. One that has missed too many, or that saw a line
// which is not there, as after a backup was put back, must read anew: then newest is the
// line from which it goes on.
func (s *Service) Missed(ctx context.Context, by act.Actor, last int64,
	hand func(record.Entry) (more bool),
) (newest int64, anew bool, err error) {
	if err := by.May(access.Read); err != nil {
		return 0, false, err
	}
	newest, err = s.DB.Read(records.Everything).NewestLine(ctx)
	if err != nil || last > newest || newest-last > mostMissed {
		return newest, err == nil, err
	}
	for {
		part, err := s.DB.Read(records.Everything).EntriesSince(ctx, last, 500)
		if err != nil || len(part) == 0 {
			return last, false, err
		}
		for _, e := range part {
			if last = e.Seq; !hand(e) {
				return last, false, nil
			}
		}
	}
}

// quiet are kinds that are in the record but no activity.
var quiet = []string{"person.signed_in", "person.signed_out", "token.made", "token.ended"}

// Activity lists what happened, newest first, as everyone may read it who sees the
// project: in a project, about a subject, or all of it.
func (s *Service) Activity(ctx context.Context, by act.Actor, project, subject string,
	p records.Page,
) (wire.Listed[wire.Happening], error) {
	if err := by.May(access.Read); err != nil {
		return wire.Listed[wire.Happening]{}, err
	}
	search := records.RecordSearch{Project: project, Subject: subject, Projects: by.Where(access.Read)}
	r := s.DB.Read(by.Sight())
	out := wire.Listed[wire.Happening]{Items: []wire.Happening{}}
	// Comments stand with what they answer; a page must not be empty because of them.
	for range 10 {
		items, next, err := r.Entries(ctx, search, records.Page{Limit: p.Limit - len(out.Items), After: p.After})
		if err != nil {
			return out, err
		}
		for _, e := range items {
			if e.On == 0 && !slices.Contains(quiet, e.Kind) {
				out.Items = append(out.Items, wire.Happening{Entry: e.Activity()})
			}
		}
		if out.Next, p.After = next, next; next == "" || len(out.Items) >= p.Limit {
			break
		}
	}
	return out, s.addComments(ctx, r, out.Items)
}

func (s *Service) addComments(ctx context.Context, r records.View, items []wire.Happening) error {
	lines := make([]int64, len(items))
	for i, h := range items {
		lines[i] = h.Seq
	}
	comments, err := r.CommentsOn(ctx, lines)
	for i := range items {
		for _, c := range comments[items[i].Seq] {
			items[i].Comments = append(items[i].Comments, c.Activity())
		}
	}
	return err
}

const longestComment = 10_000

// Comment says something about a line of the record, or about a subject when on is 0.
func (s *Service) Comment(ctx context.Context, by act.Actor, on int64, subject, text string) (wire.Said, error) {
	text = strings.TrimSpace(text)
	if text == "" || len(text) > longestComment {
		return wire.Said{}, fault.New(fault.Invalid, "comment.text", "the comment is empty or longer than %d bytes",
			longestComment).In("text").Do("write something shorter")
	}
	return act.Change(ctx, s.Base, by, access.Comment, func(t *act.Tx) (wire.Said, error) {
		e := act.Entry{Kind: "comment.made", On: on, Reason: text}
		about := ""
		if on > 0 {
			line, err := t.Entry(ctx, on)
			if errors.Is(err, records.ErrNone) {
				return wire.Said{}, fault.New(fault.Unknown, "comment.unknown",
					"there is no line %d in the record", on).
					In("on").Do("see what happened with: innerladder activity")
			}
			if err != nil {
				return wire.Said{}, err
			}
			if line.On > 0 { // an answer to a comment stands beside it
				if line, err = t.Entry(ctx, line.On); err != nil {
					return wire.Said{}, err
				}
			}
			before, err := t.CommentsOn(ctx, []int64{line.Seq})
			if err != nil {
				return wire.Said{}, err
			}
			e.On, e.Project, e.Subject, e.Also = line.Seq, line.Project, line.Subject, line.Also
			e.Involved = map[notice.Topic][]string{notice.Comment: {line.Actor}}
			for _, c := range before[line.Seq] {
				e.Involved[notice.Comment] = append(e.Involved[notice.Comment], c.Actor)
			}
			about = line.Sentence
		} else {
			var err error
			if e.Project, e.Subject, err = s.subject(ctx, t.View, subject); err != nil {
				return wire.Said{}, err
			}
			about = e.Subject
		}
		e.Sentence = fmt.Sprintf("%s commented on %s.", t.By.Name, strings.TrimSuffix(about, "."))
		if err := t.Note(ctx, e); err != nil {
			return wire.Said{}, err
		}
		readers, err := notices.Readers(ctx, t)
		return wire.Said{
			Entry: t.Entries[len(t.Entries)-1].Activity(), Unreached: notice.Unreached(text, e.Project, readers),
		}, err
	})
}

// isID reports whether a name is an id of the kind that parse reads.
func isID[N int | int64](parse func(field, id string) (N, error), name string) bool {
	_, err := parse("subject", name)
	return err == nil
}

// subject finds what a comment is about: a version, a data set, a run, a promotion, an
// alert, a model or an endpoint.
func (s *Service) subject(ctx context.Context, r records.View, name string) (project, subject string, err error) {
	switch {
	case strings.Contains(name, "@"):
		v, err := s.registry.Resolve(ctx, r, "subject", name)
		if err != nil {
			return "", "", err
		}
		return v.Project, v.Ref, nil
	case strings.Contains(name, "#"):
		d, err := s.registry.FindDataSet(ctx, r, "subject", name)
		if err != nil {
			return "", "", err
		}
		return d.Project, d.Ref, nil
	case isID(lineage.ParseRunRef, name):
		run, err := s.registry.FindRun(ctx, r, "subject", name)
		if err != nil {
			return "", "", err
		}
		return run.Project, run.Ref, nil
	case isID(ladder.ParseID, name):
		p, err := s.ladder.FindPromotion(ctx, r, name)
		if err != nil {
			return "", "", err
		}
		return p.Project, p.ID, nil
	case isID(watch.ParseID, name):
		a, err := s.observe.FindAlert(ctx, r, name)
		if err != nil {
			return "", "", err
		}
		return a.Project, a.ID, nil
	}
	if m, err := r.Model(ctx, name); err == nil {
		return m.Project, m.Name, nil
	} else if !errors.Is(err, records.ErrNone) {
		return "", "", err
	}
	if e, err := r.Endpoint(ctx, name); err == nil {
		return e.Project, e.Name, nil
	} else if !errors.Is(err, records.ErrNone) {
		return "", "", err
	}
	return "", "", fault.New(fault.Unknown, "subject.unknown",
		"%q is no model, endpoint, version, data set, run, promotion or alert", name).In("subject").
		Do("write a model's or endpoint's name, MODEL@NUMBER, NAME#NUMBER, run-NUMBER, P-NUMBER or A-NUMBER")
}

// auditSearch narrows a search down to what whoever acts may look into.
func (s *Service) auditSearch(ctx context.Context, by act.Actor,
	q records.RecordSearch,
) (records.View, records.RecordSearch, error) {
	if err := by.May(access.Audit); err != nil {
		return records.View{}, q, err
	}
	if q.Project != "" {
		if err := s.people.CheckProject(ctx, s.Read(by), q.Project); err != nil {
			return records.View{}, q, err
		}
		if err := by.Need(access.Audit, q.Project); err != nil {
			return records.View{}, q, err
		}
	}
	if isID(ladder.ParseID, q.Subject) || isID(watch.ParseID, q.Subject) {
		q.Subject = strings.ToUpper(q.Subject)
	}
	q.Projects = by.Where(access.Audit)
	return s.DB.Read(records.Everything), q, nil
}

// Audit searches the record, newest first.
func (s *Service) Audit(ctx context.Context, by act.Actor, q records.RecordSearch,
	p records.Page,
) (wire.Listed[record.Entry], error) {
	r, q, err := s.auditSearch(ctx, by, q)
	if err != nil {
		return wire.Listed[record.Entry]{}, err
	}
	items, next, err := r.Entries(ctx, q, p)
	return wire.Listed[record.Entry]{Items: items, Next: next}, err
}

// Exporting checks that whoever acts may export what a search finds, and returns what
// hands it out, oldest first, as CloudEvents.
func (s *Service) Exporting(ctx context.Context, by act.Actor,
	q records.RecordSearch,
) (func(context.Context, func(record.CloudEvent) error) error, error) {
	r, q, err := s.auditSearch(ctx, by, q)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, each func(record.CloudEvent) error) error {
		return r.EachEntry(ctx, q, func(e record.Entry) error { return each(e.Event(s.address)) })
	}, nil
}

// Verify reads the whole record and tells where it is not what was written; checkpoints
// that were exported before must hold.
func (s *Service) Verify(ctx context.Context, by act.Actor, checkpoints []record.Checkpoint) (record.Verified, error) {
	err := by.May(access.Audit)
	if err == nil {
		err = by.Need(access.Audit, "") // the chain runs through all projects
	}
	if err != nil {
		return record.Verified{}, err
	}
	hashes := map[int64]string{}
	for _, c := range checkpoints {
		if err := c.Check(s.signer.Public()); err != nil {
			return record.Verified{}, err
		}
		hashes[c.Seq] = c.Hash
	}
	return s.DB.VerifyRecord(ctx, hashes)
}

// Checkpoint signs what the last line of the record is.
func (s *Service) Checkpoint(ctx context.Context, by act.Actor) (record.Checkpoint, error) {
	err := by.May(access.Audit)
	if err == nil {
		err = by.Need(access.Audit, "")
	}
	if err != nil {
		return record.Checkpoint{}, err
	}
	seq, h, err := s.DB.Read(records.Everything).Tail(ctx)
	if err != nil {
		return record.Checkpoint{}, err
	}
	return record.NewCheckpoint(seq, h, s.Now(), s.signer), nil
}

// Searches lists the searches that whoever is signed in keeps and those that others
// share.
func (s *Service) Searches(ctx context.Context, by act.Actor) (wire.Listed[registry.SavedSearch], error) {
	if err := by.May(access.Audit); err != nil {
		return wire.Listed[registry.SavedSearch]{}, err
	}
	items, err := s.DB.Read(records.Everything).Searches(ctx, by.Person)
	if err != nil {
		return wire.Listed[registry.SavedSearch]{}, err
	}
	out := wire.Listed[registry.SavedSearch]{Items: []registry.SavedSearch{}}
	for _, one := range items {
		shown, err := s.showsSearch(ctx, by, &one)
		if err != nil {
			return out, err
		}
		if shown {
			out.Items = append(out.Items, one)
		}
	}
	return out, nil
}

// showsSearch reports whether a search of another is for whoever acts: what it is called and looks for names things of
// where its owner looks, so it is for those who may look there too.
func (s *Service) showsSearch(ctx context.Context, by act.Actor, one *registry.SavedSearch) (bool, error) {
	if one.Owner == by.Name {
		return true, nil
	}
	if project := one.Query["project"]; project != "" {
		return by.Rights.May(access.Audit, project), nil
	}
	r := s.DB.Read(records.Everything)
	owner, err := r.PersonNamed(ctx, one.Owner)
	if err != nil {
		return false, err
	}
	rights, err := r.RightsOf(ctx, owner)
	if err != nil {
		return false, err
	}
	where, all := rights.Where(access.Audit)
	mine, everywhere := by.Rights.Where(access.Audit)
	return everywhere || !all && len(where) > 0 &&
		!slices.ContainsFunc(where, func(p string) bool { return !slices.Contains(mine, p) }), nil
}

// searchable are the members of a saved search.
var searchable = []string{"text", "kind", "actor", "subject", "project", "after", "until", "within"}

// SaveSearch keeps a search under a name, in place of an own one of that name.
func (s *Service) SaveSearch(ctx context.Context, by act.Actor, name string, query map[string]string,
	shared bool,
) (registry.SavedSearch, error) {
	if name = strings.TrimSpace(name); name == "" || len(name) > 100 {
		return registry.SavedSearch{}, fault.New(fault.Invalid, "search.name", "the search has no name, or a long one").
			In("name").Do("give it a name of at most 100 bytes")
	}
	for member, value := range query {
		if !slices.Contains(searchable, member) || len(value) > 500 {
			return registry.SavedSearch{}, fault.New(fault.Invalid, "search.query", "%q cannot be kept", member).
				In("query").Do("use some of %s", strings.Join(searchable, ", "))
		}
	}
	return act.Change(ctx, s.Base, by, access.Audit, func(t *act.Tx) (registry.SavedSearch, error) {
		out := registry.SavedSearch{Name: name, Owner: t.By.Name, Shared: shared, Query: query, MadeAt: t.Now}
		if err := t.PutSearch(ctx, t.By.Person, &out); err != nil {
			return out, err
		}
		return out, t.Note(ctx, act.Entry{
			Needs: access.Own, Kind: "search.saved", Subject: name, // it is about nobody but whoever keeps it
			Sentence: t.By.Name + " saved the search " + name + ".", After: out,
		})
	})
}

// RemoveSearch forgets a search of whoever is signed in.
func (s *Service) RemoveSearch(ctx context.Context, by act.Actor, id int64) (struct{}, error) {
	return act.Change(ctx, s.Base, by, access.Audit, func(t *act.Tx) (struct{}, error) {
		there, err := t.View.RemoveSearch(ctx, t.By.Person, id)
		if err == nil && !there {
			err = fault.New(fault.Unknown, "search.unknown", "you keep no search %d", id).In("search").
				Do("only your own can be removed")
		}
		if err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.Note(ctx,
			act.Entry{
				Needs: access.Own, Kind: "search.removed", Subject: fmt.Sprint(id),
				Sentence: t.By.Name + " removed a saved search.",
			})
	})
}
