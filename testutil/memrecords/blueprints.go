package memrecords

import (
	"context"
	"slices"
	"strings"
	"time"

	"example.com/genarch/core/blueprint"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
)

// Blueprints lists all, each in its latest version.
func (r *Records) Blueprints(context.Context) ([]blueprint.Kept, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []blueprint.Kept
	for _, versions := range r.blueprints {
		out = append(out, versions[len(versions)-1])
	}
	slices.SortFunc(out, func(x, y blueprint.Kept) int { return strings.Compare(x.Name, y.Name) })
	return out, r.away
}

// Blueprint reads one version, or with 0 the latest.
func (r *Records) Blueprint(_ context.Context, name string, version int) (blueprint.Kept, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	versions := r.blueprints[name]
	if version == 0 {
		version = len(versions)
	}
	if version < 1 || version > len(versions) {
		return blueprint.Kept{}, record.ErrNotFound
	}
	return versions[version-1], r.away
}

// PutBlueprint keeps the next version.
func (r *Records) PutBlueprint(_ context.Context, k blueprint.Kept, e journal.Entry) (blueprint.Kept, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	versions := r.blueprints[k.Name]
	if n := len(versions); n > 0 && versions[n-1].Text == k.Text {
		return versions[n-1], r.away
	}
	k.Version, k.Created = len(versions)+1, time.Now().UTC()
	r.blueprints[k.Name] = append(versions, k)
	r.journal = append(r.journal, e)
	return k, r.away
}

// RemoveBlueprint takes one away.
func (r *Records) RemoveBlueprint(_ context.Context, name string, e journal.Entry) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.blueprints[name]) == 0 {
		return record.ErrNotFound
	}
	delete(r.blueprints, name)
	r.journal = append(r.journal, e)
	return r.away
}
