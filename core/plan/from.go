package plan

import (
	"cmp"
	"path/filepath"
	"time"
)

// TreeMark stands in a contender's settings for the folder in which its program was built from a commit.
const TreeMark = "${TREE}"

// DefaultBuildLimit is how long a build may take unless a plan says.
const DefaultBuildLimit = 10 * time.Minute

// MaxBuild is how long a build may take at most.
const MaxBuild = 2 * time.Hour

// From is the commit that a contender's program is built from.
type From struct {
	Git    string `json:"git,omitempty" jsonschema_description:"the revision: a commit, a tag, a branch, as HEAD~5"`
	Build  string `json:"build,omitempty" jsonschema_description:"the shell line that builds it, in a clean copy of that revision; what it makes is kept by commit. Without one the copy is taken as it is"`
	In     string `json:"in,omitempty" jsonschema_description:"a folder in the repository, where the line is run and the program is; the plan's folder unless said"`
	Within Span   `json:"within,omitempty" jsonschema_description:"how long a build may take; 10m unless said"`
}

// Folder is the folder in the repository, for a plan in dir.
func (f *From) Folder(dir string) string {
	if filepath.IsAbs(f.In) {
		return f.In
	}
	return filepath.Join(dir, f.In)
}

// Limit is how long a build may take.
func (f *From) Limit() time.Duration { return cmp.Or(f.Within.D(), DefaultBuildLimit) }
