package keep

import (
	"context"
	"errors"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/keep"
	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

// Retention shows how long what grows is kept.
func (s *Service) Retention(ctx context.Context, by act.Actor) (keep.Retention, error) {
	if err := by.May(access.Administer); err != nil {
		return keep.Retention{}, err
	}
	return s.DB.Read(records.Everything).Retention(ctx)
}

// SetRetention says how long what grows is kept; absent members stay as they are.
func (s *Service) SetRetention(ctx context.Context, by act.Actor, n keep.Retention,
	reason string,
) (keep.Retention, error) {
	before, err := s.DB.Read(records.Everything).Retention(ctx)
	if err != nil {
		return n, err
	}
	for _, f := range []struct {
		into *string
		was  string
	}{
		{&n.Minutes, before.Minutes},
		{&n.Hours, before.Hours},
		{&n.Days, before.Days},
		{&n.Readings, before.Readings},
		{&n.Deliveries, before.Deliveries},
		{&n.Notices, before.Notices},
		{&n.Repeats, before.Repeats},
	} {
		if *f.into == "" {
			*f.into = f.was
		}
	}
	if n.RequestGiB == 0 {
		n.RequestGiB = before.RequestGiB
	}
	if _, err := n.Ages(); err != nil {
		return n, err
	}
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (keep.Retention, error) {
		if err := t.PutSetting(ctx, "retention", n, t.By.Name, t.Now); err != nil {
			return n, err
		}
		return n, t.Note(ctx, act.Entry{
			Kind: "settings.retention", Subject: "retention",
			Sentence: "It was changed how long logs and windows are kept.", Reason: reason, Before: before, After: n,
		})
	})
}

// Forget removes what is older than it is kept for. It is called from time to time.
func (s *Service) Forget(ctx context.Context) error {
	r, err := s.DB.Read(records.Everything).Retention(ctx)
	if err != nil {
		return err
	}
	ages, err := r.Ages()
	if err != nil {
		return err
	}
	now := s.Now()
	if err := s.DB.Write(ctx, records.Everything, func(r records.View) error {
		return r.Forget(ctx, now.Add(-ages.Deliveries), now.Add(-ages.Notices), now.Add(-ages.Repeats), now)
	}); err != nil {
		return err
	}
	kept := s.signals.Store()
	if kept == nil {
		return nil
	}
	return errors.Join(kept.Forget(ctx, now,
		signals.Ages{Minutes: ages.Minutes, Hours: ages.Hours, Days: ages.Days, Readings: ages.Readings}),
		s.forgetTrials(ctx, kept))
}

// ForgetRequests drops the days of requests that are older than their endpoints keep them, or too much together. It is
// called from time to time.
func (s *Service) ForgetRequests(ctx context.Context) error {
	if s.requests == nil {
		return nil
	}
	r, err := s.DB.Read(records.Everything).Retention(ctx)
	if err != nil {
		return err
	}
	endpoints, err := s.DB.Read(records.Everything).Endpoints(ctx)
	if err != nil {
		return err
	}
	ages := map[int64]time.Duration{}
	for _, e := range endpoints {
		ages[e.ID] = e.Requests.Age()
	}
	return s.requests.Forget(s.Now(), func(endpoint int64) time.Duration {
		if age, ok := ages[endpoint]; ok {
			return age
		}
		return request.UsualKeeping().Age() // it was taken away, or the requests found none
	}, int64(r.RequestGiB)<<30)
}

// forgetTrials drops the evidence of trials that have ended.
func (s *Service) forgetTrials(ctx context.Context, kept *signals.Store) error {
	r := s.DB.Read(records.Everything)
	endpoints, err := r.Endpoints(ctx)
	if err != nil {
		return err
	}
	return jobs.Each(endpoints, func(e traffic.Endpoint) string { return e.Name }, func(e traffic.Endpoint) error {
		trials, err := s.traffic.PairsOf(ctx, r, e)
		if err != nil {
			return err
		}
		var begun []int
		for _, t := range trials {
			begun = append(begun, t.Begun)
		}
		return kept.ForgetTrials(ctx, e.Name, begun)
	})
}
