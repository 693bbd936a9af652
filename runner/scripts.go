package runner

import (
	"context"
	"slices"

	"example.com/genarch/core/change"
)

// dropScript removes the script of a change that has ended. What cannot be removed now is
// swept up later.
func (r *Runner) dropScript(ctx context.Context, c change.Change) {
	if c.Intent.Kind != change.FillDatabase || r.Scripts == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), storeTime)
	defer cancel()
	if err := r.Scripts.Remove(ctx, c.Intent.Database.Script); err != nil {
		r.Log.Warn("the script of a change was not removed; it will be later", "change", c.ID, "error", err)
	}
}

// sameScript is an intent with the script of an earlier change, if it has sent the same text once
// more; what was sent is removed again.
func (r *Runner) sameScript(ctx context.Context, in change.Intent, earlier change.Change) change.Intent {
	if in.Kind != change.FillDatabase || earlier.Intent.Kind != in.Kind || r.Scripts == nil {
		return in
	}
	k, err := r.Scripts.Script(ctx, in.Database.Script)
	if err != nil || k.ID == earlier.Intent.Database.Script ||
		!slices.ContainsFunc(earlier.Brief.Settings, func(s change.Setting) bool {
			return s.Name == change.ScriptHash && s.Value == k.Summary.SHA256
		}) {
		return in
	}
	r.dropScript(ctx, change.Change{Intent: in})
	spec := *in.Database
	spec.Script = earlier.Intent.Database.Script
	in.Database = &spec
	return in
}
