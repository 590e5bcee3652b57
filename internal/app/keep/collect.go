package keep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/registry"
	"innerladder/internal/blob"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// youngest is how old a file must be to be collected: a registration may be on its way.
const youngest = time.Hour

// Collect removes the files that no version needs. A dry run only says which.
func (s *Service) Collect(ctx context.Context, by act.Actor, dry bool) (wire.Collected, error) {
	if err := by.May(access.Administer); err != nil {
		return wire.Collected{}, err
	}
	needed := func() (map[string]bool, error) { return s.DB.Read(records.Everything).NeededBlobs(ctx) }
	found, err := s.blobs.Collect(needed,
		s.Now().Add(-s.spare()), dry)
	if errors.Is(err, blob.ErrHeld) {
		return wire.Collected{}, fault.New(fault.Refused, "collect.backup", "a backup is being written").
			Do("try again when it is done")
	}
	if err != nil {
		return wire.Collected{}, err
	}
	out := wire.Collected{DryRun: dry, Files: len(found), Digests: []string{}}
	for _, f := range found {
		out.Bytes += f.Size
		if len(out.Digests) < 1000 {
			out.Digests = append(out.Digests, f.Digest)
		}
	}
	slices.Sort(out.Digests)
	if dry {
		return out, nil
	}
	if out.Uploads, err = s.blobs.ForgetOlder(s.Now().Add(-registry.UploadsLast)); err != nil {
		return out, err
	}
	if out.Files == 0 && out.Uploads == 0 {
		return out, nil
	}
	// The files are gone whatever happens to the entry, so it must not depend on ctx.
	return act.Change(context.WithoutCancel(ctx), s.Base, by, access.Administer,
		func(t *act.Tx) (wire.Collected, error) {
			return out, t.Note(ctx, act.Entry{
				Kind:     "files.collected",
				Sentence: fmt.Sprintf("%d files of %d bytes that no version needs were removed.", out.Files, out.Bytes),
				After:    out,
			})
		})
}

// spare is how old a file must be to be collected.
func (s *Service) spare() time.Duration {
	if s.spareFor == 0 {
		return youngest
	}
	return s.spareFor
}
