package registry

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/compute"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/records"
)

// member is how an ensemble relates to the versions that it is made of.
const member = "member"

// Computed finds the only file of a version that the built-in runner can compute; field is where the version was named.
func Computed(field string, v *registry.Version) (registry.Artifact, error) {
	var found []registry.Artifact
	for _, a := range v.Artifacts {
		if slices.Contains(compute.Formats, a.Contents.Format) || a.Contents.Ensemble != nil {
			found = append(found, a)
		}
	}
	switch {
	case len(found) != 1:
		return registry.Artifact{}, fault.New(fault.Refused, "placement.no_file", "%s has %d files in %s", v.Ref,
			len(found), strings.Join(compute.Formats, " or ")).In(field).
			Do("register one file that can be computed here, or run the version in a server of its own and place it " +
				"with -at URL")
	case !found[0].Stored:
		return found[0], fault.New(fault.Refused, "artifact.referenced", "the bytes of %s are not kept here",
			found[0].Name).In(field).Do("register the file itself")
	}
	return found[0], nil
}

// compose resolves what an ensemble is made of: exact versions, from which it comes, whose signatures make its own.
func (s *Service) compose(ctx context.Context, r records.View, v *registry.Version) error {
	for i := range v.Artifacts {
		p := v.Artifacts[i].Contents.Ensemble
		if p == nil {
			continue
		}
		var signatures []*signature.Signature
		for k := range p.Members {
			field := fmt.Sprintf("members[%d]", k)
			found, err := s.Resolve(ctx, r, field, p.Members[k].Version)
			if err != nil {
				return err
			}
			file, err := Computed(field, found)
			if err != nil {
				return err
			}
			if file.Contents.Ensemble != nil {
				return fault.New(fault.Refused, "ensemble.nested", "%s is an ensemble itself", found.Ref).In(field).
					Do("name the versions that it is made of")
			}
			p.Members[k].Version = found.Ref
			signatures = append(signatures, found.Signature)
			from := lineage.Parent{Version: found.Ref, Relation: member}
			if !slices.Contains(v.Parents, from) {
				v.Parents = append(v.Parents, from)
			}
		}
		composed, err := p.Signature(signatures)
		if err != nil {
			return err
		}
		if v.Signature == nil {
			v.Signature = composed
			v.SampleRequest = composed.SampleRequest(func(string) signature.Cell { return signature.Cell{} })
		}
	}
	return nil
}
