package requests

import (
	"context"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/records"
	"innerladder/internal/requestlog"
)

// mostInTrouble is how many requests in trouble, and how many others, are looked at for what they have in common.
const mostInTrouble = 200

// Asked are the inputs of some requests of an endpoint in a span of time that ended in one of some ways, and of some
// that were answered; one row of each.
func (s *Service) Asked(ctx context.Context, endpoint string, from, to time.Time, ways []request.Outcome,
) (troubled, fine []map[string]any, err error) {
	if s.log == nil {
		return nil, nil, nil
	}
	e, err := s.traffic.FindEndpoint(ctx, s.DB.Read(records.Everything), endpoint)
	if err != nil {
		return nil, nil, err
	}
	read := func(way request.Outcome) (out []map[string]any, err error) {
		found, err := s.log.Search(ctx, e.ID, request.Filter{From: from, To: to, Outcome: way},
			requestlog.Part{Limit: mostInTrouble})
		for i := range found.Items {
			if rows := request.RowsOf(&found.Items[i]); len(rows) > 0 && len(rows[0].Inputs) > 0 {
				out = append(out, rows[0].Inputs)
			}
		}
		return out, err
	}
	for _, way := range ways {
		some, err := read(way)
		if err != nil {
			return nil, nil, err
		}
		troubled = append(troubled, some...)
	}
	fine, err = read(request.Answered)
	return troubled, fine, err
}
