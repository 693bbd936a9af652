package watch

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/history"
)

const (
	// sizeTime bounds one reading of the sizes of all databases of a server.
	sizeTime = 30 * time.Second
	// firstTime is when figures are put on record first, so that a service that has just
	// begun has something to show.
	firstTime = 5 * time.Second
	// maxDue bounds what waits for the records: a day's.
	maxDue = int(24 * time.Hour / history.Every)
)

// figures is what is measured of one server for its history. The name of a database leads
// to its figures; an empty one to those of the whole server.
type figures struct {
	server uint64
	// from is when the stretch began that is being measured; zero: none is.
	from time.Time
	// most are the most sessions at once in the stretch.
	most map[string]int
	// sizes are in bytes, as they were read at sized; what is absent could not be read.
	sizes map[string]int64
	sized time.Time
	// kept is what was last put on record.
	kept map[string]history.Point
	// due are the points of stretches that are over, the oldest first, and renamed the names
	// that are others now, which are not on record yet.
	due     []map[string]history.Point
	renamed [][2]string
}

// saw notes one look at the server's sessions, by database.
func (f *figures) saw(now time.Time, sessions map[string]int) {
	if from := now.Truncate(history.Every); !from.Equal(f.from) {
		f.close()
		f.from, f.most = from, map[string]int{}
	}
	all := 0
	for name, n := range sessions {
		all += n
		if _, known := f.most[name]; known || len(f.most) < maxUses {
			f.most[name] = max(f.most[name], n)
		}
	}
	f.most[""] = max(f.most[""], all)
}

// close ends a stretch: what it comes to waits to be put on record.
func (f *figures) close() {
	if f.from.IsZero() {
		return
	}
	points := f.points()
	f.due = append(f.due, points)
	if over := len(f.due) - maxDue; over > 0 {
		f.due = f.due[over:]
	}
	f.keep(points)
}

// points are those of the stretch that differ from what is on record, and the server's own.
func (f *figures) points() map[string]history.Point {
	out := map[string]history.Point{}
	add := func(name string) {
		p := history.Point{At: f.from, Sessions: f.most[name]}
		if size, known := f.sizes[name]; known {
			p.Size = &size
		}
		if was, known := f.kept[name]; name == "" || !known || !alike(was, p) {
			out[name] = p
		}
	}
	for _, names := range []map[string]int64{f.sizes, ones(f.most), ones(f.kept)} {
		for name := range names {
			add(name)
		}
	}
	return out
}

func ones[V any](m map[string]V) map[string]int64 {
	out := make(map[string]int64, len(m))
	for name := range m {
		out[name] = 1
	}
	return out
}

func alike(x, y history.Point) bool {
	return x.Sessions == y.Sessions && (x.Size == nil) == (y.Size == nil) && (x.Size == nil || *x.Size == *y.Size)
}

// keep notes what is on record now. Of what is gone nothing has to be remembered.
func (f *figures) keep(points map[string]history.Point) {
	for name, p := range points {
		if p.Size == nil && p.Sessions == 0 {
			delete(f.kept, name)
		} else {
			f.kept[name] = p
		}
	}
}

// rename gives what was measured of a database to another name; an empty one forgets it.
func (f *figures) rename(from, to string) {
	f.renamed = append(f.renamed, [2]string{from, to})
	move(f.most, from, to)
	move(f.sizes, from, to)
	move(f.kept, from, to)
	for _, points := range f.due {
		move(points, from, to)
	}
}

func move[V any](m map[string]V, from, to string) {
	if v, there := m[from]; there && to != "" {
		m[to] = v
	}
	delete(m, from)
}

// keepHistory puts on record, every minute, what servers and databases come to.
func (w *Watch) keepHistory(ctx context.Context) {
	tick := time.NewTimer(firstTime)
	defer tick.Stop()
	var thinned time.Time
	for {
		select {
		case <-ctx.Done():
			w.saveFigures(context.WithoutCancel(ctx))
			return
		case <-tick.C:
			tick.Reset(saveEvery)
		}
		w.measure(ctx)
		w.saveFigures(ctx)
		if now := time.Now(); now.Sub(thinned) >= time.Hour {
			thinned = now
			try, cancel := context.WithTimeout(ctx, saveTime)
			if err := w.records.ThinHistory(try, now); err != nil {
				w.log.DebugContext(ctx, "the history cannot be thinned", "error", err)
			}
			cancel()
		}
	}
}

// measure reads the sizes of the databases of each server, once in a stretch.
func (w *Watch) measure(ctx context.Context) {
	var group errgroup.Group
	group.SetLimit(looks)
	w.mu.Lock()
	var names []string
	for name, k := range w.servers {
		if !k.figures.from.IsZero() && k.figures.sized.Before(k.figures.from) {
			names = append(names, name)
		}
	}
	w.mu.Unlock()
	for _, name := range names {
		group.Go(func() error {
			look, cancel := context.WithTimeout(ctx, sizeTime)
			defer cancel()
			_, _, access, err := w.fleet.Open(look, name)
			var list catalog.Listing
			if err == nil {
				list, err = access.Databases(look)
			}
			if err != nil {
				w.log.DebugContext(ctx, "sizes cannot be read", "server", name, "error", err)
				return nil
			}
			w.noteSizes(name, list)
			return nil
		})
	}
	_ = group.Wait()
}

func (w *Watch) noteSizes(server string, list catalog.Listing) {
	sizes := map[string]int64{}
	for _, d := range list.Databases {
		if d.Size != nil {
			sizes[d.Name] = *d.Size
			sizes[""] += *d.Size
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if k := w.servers[server]; k != nil {
		k.figures.sizes, k.figures.sized = sizes, time.Now()
	}
}

// saveFigures puts on record what is not there yet. What cannot be saved waits.
func (w *Watch) saveFigures(ctx context.Context) {
	w.mu.Lock()
	names := make([]string, 0, len(w.servers))
	for name := range w.servers {
		names = append(names, name)
	}
	w.mu.Unlock()
	for _, name := range names {
		try, cancel := context.WithTimeout(ctx, saveTime)
		if err := w.saveServer(try, name); err != nil {
			w.log.DebugContext(ctx, "history cannot be kept", "server", name, "error", err)
		}
		cancel()
	}
}

func (w *Watch) saveServer(ctx context.Context, name string) error {
	w.mu.Lock()
	k := w.servers[name]
	if k == nil || k.figures.from.IsZero() {
		w.mu.Unlock()
		return nil
	}
	f := &k.figures
	server, now := f.server, f.points()
	due, renamed := f.due, f.renamed
	f.due, f.renamed = nil, nil
	w.mu.Unlock()
	again := func(renamed [][2]string, due []map[string]history.Point) {
		w.mu.Lock()
		defer w.mu.Unlock()
		f.renamed, f.due = append(renamed, f.renamed...), append(due, f.due...)
	}
	for i, r := range renamed {
		if err := w.records.RenameHistory(ctx, server, r[0], r[1]); err != nil {
			again(renamed[i:], due)
			return err
		}
	}
	all := map[string][]history.Point{}
	for _, points := range append(due, now) {
		for name, p := range points {
			all[name] = append(all[name], p)
		}
	}
	if err := w.records.SaveHistory(ctx, server, all); err != nil {
		again(nil, due)
		return err
	}
	w.mu.Lock()
	f.keep(now)
	w.mu.Unlock()
	return nil
}
