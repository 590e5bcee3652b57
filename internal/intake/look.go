package intake

import (
	"os"

	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/wire"
)

// Look reads a file as a part of a registration would be.
func Look(part, name string, f *os.File, size int64, targets []string) (wire.LookedAt, error) {
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
	case wire.PartCard:
		out.Card, err = ReadCard(name, f)
	case wire.PartRequirements:
		out.Dependencies, out.Remarks, err = ReadRequirements(name, f)
	default:
		var c registry.Contents
		if c, err = Read(name, f, size); err == nil {
			out.Contents, out.Signature = &c, c.Signature
		}
	}
	return out, err
}
