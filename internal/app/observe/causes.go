package observe

import (
	"context"
	"fmt"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

// cause says what may be behind what one watch has seen, where that can be told from its column.
func (s *Service) cause(w *watching, seen *watch.Seen, st watch.Stand) string {
	signal, column := watch.Parts(st.Signal)
	content := &seen.Content
	if seen.Long != nil {
		content = seen.Long
	}
	ref, is := w.usual.Inputs[column], content.Inputs[column]
	if signal == watch.PredictionDrift {
		ref, is = w.usual.Outputs[column], content.Outputs[column]
	}
	if ref == nil || is == nil || !ref.Bins.Numeric() || ref.Seen() == 0 || is.Seen() == 0 {
		return ""
	}
	return watch.OtherUnit(column, watch.Spread{Mean: ref.Mean(), Deviation: ref.StandardDeviation()},
		watch.Spread{Mean: is.Mean(), Deviation: is.StandardDeviation()})
}

// causes says what else happened when a group of watches began to fire.
func (s *Service) causes(ctx context.Context, e *traffic.Endpoint, c watch.Change, now time.Time) (out []string) {
	began := c.Fires[0].Began
	for _, one := range []string{
		s.oneCaller(ctx, e.Name, c.Group, began, now), s.oneSegment(ctx, e, c.Group, began, now),
	} {
		if one != "" {
			out = append(out, one)
		}
	}
	if c.Group == watch.RefusalRate {
		refused := s.recorder.RefusedLately(e.Name, began, now)
		for why, n := range refused {
			if n > 0 && n*10 >= refused.Total()*8 {
				out = append(out, fmt.Sprintf("%d of %d %s.", n, refused.Total(), request.Reason(why).What()))
			}
		}
	}
	if after := began.Sub(e.Split.MadeAt); e.Split.Number > 1 && after > -2*watch.Every && after < time.Minute {
		out = append(out, fmt.Sprintf("Split #%d came into force at %s, when it began.", e.Split.Number,
			e.Split.MadeAt.UTC().Format("15:04:05")))
	}
	return out
}

// oneCaller says when what is in trouble is nearly all of one caller.
func (s *Service) oneCaller(ctx context.Context, endpoint, group string, began, now time.Time) string {
	kept := s.signals.Store()
	what, bad := "failed", func(c request.Calls) uint64 { return c.Failed }
	if group == watch.CallerErrorRate {
		what, bad = "were at fault themselves", func(c request.Calls) uint64 { return c.Wrong }
	}
	if kept == nil || group != watch.ErrorRate && group != watch.CallerErrorRate && group != watch.TimeoutRate {
		return ""
	}
	minutes, err := kept.Calls(ctx, endpoint, signals.Minute, began.Truncate(time.Minute), now)
	if err != nil {
		s.Log.Warn("who called is not known", "endpoint", endpoint, "error", err)
	}
	all := map[string]request.Calls{}
	for _, m := range minutes {
		for name, n := range m.Calls {
			all[name] = all[name].Plus(n)
		}
	}
	return watch.OneCaller(all, what, bad)
}

// oneSegment says when what is in trouble is nearly all of one part of what is asked.
func (s *Service) oneSegment(ctx context.Context, e *traffic.Endpoint, group string, began, now time.Time) string {
	what, ways := "failed", []request.Outcome{
		request.ServerError, request.TimedOut, request.NotReached, request.Malformed, request.Abandoned,
	}
	switch group {
	case watch.CallerErrorRate:
		what, ways = "were at fault themselves", []request.Outcome{request.CallerError}
	case watch.TimeoutRate:
		what, ways = "took longer than may be waited", []request.Outcome{request.TimedOut}
	case watch.ErrorRate:
	default:
		return ""
	}
	v, err := s.registry.Resolve(ctx, s.DB.Read(records.Everything), "version", e.Split.Main().Version)
	if err != nil || v.Signature == nil || s.asked == nil {
		return ""
	}
	troubled, fine, err := s.asked(ctx, e.Name, began, now, ways)
	if err != nil {
		s.Log.Warn("what was asked is not known", "endpoint", e.Name, "error", err)
		return ""
	}
	return watch.OneSegment(v.Signature.Inputs, troubled, fine, what)
}
