package rule

// ArtifactStored demands that the version has bytes, and that they are in the store with
// their digest.
type ArtifactStored struct{}

var artifactStoredKind = KindInfo{
	"artifact_stored",
	"the version's files are in the store, and their digests are right",
	[]Setting{},
	as[ArtifactStored],
}

// Kind names it.
func (ArtifactStored) Kind() string { return artifactStoredKind.Kind }

// Evaluate counts the artifacts that are there.
func (ArtifactStored) Evaluate(f Facts) Outcome {
	n := len(f.Version.Artifacts)
	switch {
	case n == 0:
		return failed(f.Version.Ref, "The version has no artifact.")
	case f.StoredArtifacts < n:
		return failed(f.Version.Ref, "%d of %s not in the store with the registered digest.", n-f.StoredArtifacts,
			describeCount(n, "artifact"))
	case f.ReadAt.IsZero():
		return passed(f.Version.Ref, "%s stored; the bytes are read when it counts.", describeCount(n, "artifact"))
	}
	return passed(f.Version.Ref, "%s stored; the bytes had the registered digest when they were read, at %s.",
		describeCount(n, "artifact"), f.ReadAt.UTC().Format("2006-01-02 15:04 MST"))
}
