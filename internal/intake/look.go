package intake

import (
	"io"
	"os"
	"slices"
	"strings"

	"innerladder/internal/core/compute"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/wire"
)

// Look reads a file as a part of a registration would be.
func Look(part wire.Part, name string, f *os.File, size int64, targets []string) (wire.LookedAt, error) {
	out := wire.LookedAt{Name: name, Size: size}
	var err error
	switch part {
	case wire.PartSample, wire.PartReference:
		var p *profile.Profiler
		if p, err = Profile(name, f, size, nil); err == nil {
			out.Rows = p.Rows()
			out.Signature, err = p.Signature(targets, nil)
		}
	case wire.PartAnswers: // read with the signature, when it is registered
	case wire.PartReport:
		err = lookAtReport(&out, f)
	case wire.PartCard:
		out.Card, err = ReadCard(name, f)
	case wire.PartRequirements:
		out.Dependencies, out.Remarks, err = ReadRequirements(name, f)
	default:
		var c registry.Contents
		if c, err = Read(name, f, size); err == nil {
			out.Contents, out.Signature = &c, c.Signature
			out.Remarks = append(out.Remarks, runsHere(c.Format, f, size)...)
		}
	}
	return out, err
}

// largestRun is the largest file that is tried here.
const largestRun = 1 << 30

// runsHere says whether a file can be run by the built-in runner, and by name what stands against it.
func runsHere(format string, f io.ReaderAt, size int64) []string {
	if !slices.Contains(compute.Formats, format) || size > largestRun {
		return nil
	}
	b, err := io.ReadAll(io.NewSectionReader(f, 0, size))
	if err == nil {
		_, err = compute.Load(format, b, nil)
	}
	if err != nil {
		return []string{"it cannot be run here by place -run: " + strings.TrimPrefix(err.Error(),
			"it cannot be computed here: ")}
	}
	return []string{"it can be run here, by place -run"}
}

// lookAtReport tells the kind of a report, and what it says.
func lookAtReport(out *wire.LookedAt, f *os.File) error {
	if err := evidence.CheckSize("", out.Name, out.Size); err != nil {
		return err
	}
	kind := evidence.KindOf(f)
	if kind == "" {
		out.Remarks = []string{"no report whose kind can be told"}
		return nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	found, _, err := evidence.Read(kind, "", f)
	if err == nil {
		out.Report, out.Says = kind, found.Says
	}
	return err
}
