package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/app/secrets"
	"innerladder/internal/backup"
	"innerladder/internal/blob"
	"innerladder/internal/core/access"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/seal"
)

// Backup takes a snapshot of everything and returns what writes it out. The records are
// those of one moment, and every file that they name is there, because none is collected
// until it is written. close must be called.
func (s *Service) Backup(ctx context.Context,
	by act.Actor,
) (write func(context.Context, io.Writer) error, close func(), err error) {
	if err := by.May(access.Administer); err != nil {
		return nil, nil, err
	}
	if _, err := act.Change(ctx, s.Base, by.WithoutRepeat(), access.Administer, func(t *act.Tx) (struct{}, error) {
		return struct{}{}, t.Note(ctx,
			act.Entry{Kind: "service.backup", Subject: "backup", Sentence: t.By.Name + " took a backup."})
	}); err != nil {
		return nil, nil, err
	}
	dir, err := os.MkdirTemp(s.blobs.Beside(), "backup-*")
	if err != nil {
		return nil, nil, fmt.Errorf("taking a backup: %w", err)
	}
	release := s.blobs.Hold()
	close = func() {
		release()
		_ = os.RemoveAll(dir)
	}
	// The records first: what was measured meanwhile may be of splits that they do not
	// know yet, which harms nothing.
	kept := s.signals.Store()
	if kept == nil {
		close()
		return nil, nil, recorder.Away()
	}
	if err := errors.Join(s.DB.Snapshot(ctx, filepath.Join(dir, backup.Records)),
		kept.Snapshot(ctx, filepath.Join(dir, backup.Signals))); err != nil {
		close()
		return nil, nil, err
	}
	return func(ctx context.Context, w io.Writer) error { return s.writeBackup(ctx, dir, w) }, close, nil
}

func (s *Service) writeBackup(ctx context.Context, dir string, w io.Writer) error {
	db, err := records.Open(ctx, filepath.Join(dir, backup.Records))
	if err != nil {
		return err
	}
	needed, err := db.Read(records.Everything).NeededBlobs(ctx)
	seq, head, tailErr := db.Read(records.Everything).Tail(ctx)
	if err := errors.Join(err, tailErr, db.Close()); err != nil {
		return err
	}
	a := backup.New(w, s.Now())
	add := func(name string, f *os.File, err error) error {
		if err != nil {
			return err
		}
		defer f.Close()
		return a.Add(ctx, name, f)
	}
	for _, name := range []string{backup.Records, backup.Signals} {
		f, err := os.Open(filepath.Join(dir, name))
		if err := add(name, f, err); err != nil {
			return err
		}
	}
	digests := make([]string, 0, len(needed))
	for d := range needed {
		digests = append(digests, d)
	}
	slices.Sort(digests)
	for _, d := range digests {
		f, err := s.blobs.Open(d)
		if err := add(backup.BlobName(d), f, err); err != nil {
			return err
		}
	}
	return a.Close(seq, head.String())
}

// CheckRestored says whether a data directory that was put back is whole: every file that
// the records name is there, and, when there are keys, the record's chain holds.
func CheckRestored(ctx context.Context, dir string, keys *seal.Ring) (err error) {
	db, err := records.Open(ctx, filepath.Join(dir, backup.Records))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	blobs, err := blob.Open(filepath.Join(dir, "blobs"))
	if err != nil {
		return err
	}
	needed, err := db.Read(records.Everything).NeededBlobs(ctx)
	if err != nil {
		return err
	}
	for d := range needed {
		f, err := blobs.Open(d)
		if err != nil {
			return fmt.Errorf("a file that the records name is not in the backup: %s", d)
		}
		_ = f.Close()
	}
	if keys == nil {
		return nil
	}
	seed, err := secrets.SigningSeed(ctx, db.Read(records.Everything), keys)
	if err != nil {
		return err
	}
	if seed == nil {
		return nil // nothing was ever signed
	}
	found, err := db.VerifyWith(ctx, seal.NewSigner(seed), nil)
	if err != nil {
		return err
	}
	if !found.Intact() {
		return fmt.Errorf("the record in the backup is not intact: %s", found.Breaks[0].Sentence)
	}
	return nil
}
