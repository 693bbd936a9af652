package access

// Bundle is a named set of privileges on one database. What it holds is each engine's
// own.
type Bundle string

// The bundles: each holds what is in those before it.
const (
	BundleRead  Bundle = "read"
	BundleWrite Bundle = "write"
	BundleBuild Bundle = "build"
	BundleOwn   Bundle = "own"
)

// Bundles lists them, the smallest first.
var Bundles = []Bundle{BundleRead, BundleWrite, BundleBuild, BundleOwn}

// Level is the level that a bundle comes to.
func (b Bundle) Level() Level {
	switch b {
	case BundleRead:
		return Read
	case BundleWrite:
		return Write
	case BundleBuild:
		return Build
	}
	return Own
}
