package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"example.com/genarch/core/history"
)

type historyRow struct {
	ServerID uint64    `gorm:"primaryKey;autoIncrement:false"`
	Name     string    `gorm:"primaryKey"`
	At       time.Time `gorm:"primaryKey"`
	Size     *int64
	Sessions int
}

func (historyRow) TableName() string { return "history" }

const (
	// maxHistory bounds what is read of one name: more than ninety days' worth.
	maxHistory = 20000
	// thinAtOnce bounds what one transaction thins.
	thinAtOnce = 20000
)

// SaveHistory keeps points of a server, by the names of its databases; an empty name is the
// server itself. Of a point that is there already for the
// time, the most sessions and the newest size count. A server that
// is not registered any more is no error.
func (s *Store) SaveHistory(ctx context.Context, server uint64, points map[string][]history.Point) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		var there int64
		if err := tx.Model(&serverRow{}).Where("id = ?", server).Count(&there).Error; err != nil || there == 0 {
			return err
		}
		var rows []historyRow
		for name, list := range points {
			for _, p := range list {
				rows = append(rows, historyRow{server, name, p.At.UTC(), p.Size, p.Sessions})
			}
		}
		if len(rows) == 0 {
			return nil
		}
		most := clause.Assignments(map[string]any{"size": gorm.Expr("VALUES(size)"),
			"sessions": gorm.Expr("GREATEST(sessions, VALUES(sessions))")})
		return tx.Clauses(clause.OnConflict{DoUpdates: most}).CreateInBatches(&rows, usesAtOnce).Error
	})
}

// History reads the points of a database, or with an empty name of the server, from a time
// on, the oldest first, and the last one before it.
func (s *Store) History(ctx context.Context, server uint64, name string, from time.Time) ([]history.Point, error) {
	var rows, before []historyRow
	db := s.db.WithContext(ctx).Where("server_id = ? AND name = ?", server, name)
	if err := db.Session(&gorm.Session{}).Where("at < ?", from.UTC()).Order("at DESC").Limit(1).Find(&before).
		Error; err != nil {
		return nil, translate(err)
	}
	if err := db.Session(&gorm.Session{}).Where("at >= ?", from.UTC()).Order("at").Limit(maxHistory).Find(&rows).
		Error; err != nil {
		return nil, translate(err)
	}
	var out []history.Point
	for _, r := range append(before, rows...) {
		out = append(out, history.Point{At: r.At, Size: r.Size, Sessions: r.Sessions})
	}
	return out, nil
}

// RenameHistory keeps a database's points under another name; an empty one forgets them.
// What was kept under the new name goes.
func (s *Store) RenameHistory(ctx context.Context, server uint64, from, to string) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		gone := from
		if to != "" {
			gone = to
		}
		if err := tx.Where("server_id = ? AND name = ?", server, gone).Delete(&historyRow{}).Error; err != nil {
			return err
		}
		if to == "" {
			return nil
		}
		return tx.Model(&historyRow{}).Where("server_id = ? AND name = ?", server, from).Update("name", to).Error
	})
}

// ThinHistory forgets what is too old, and gathers what is old into fewer points.
func (s *Store) ThinHistory(ctx context.Context, now time.Time) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("at < ?", now.UTC().Add(-history.Kept)).Limit(thinAtOnce).Delete(&historyRow{}).
			Error; err != nil {
			return err
		}
		for _, t := range history.Thinned {
			before, into := now.UTC().Add(-t.After).Truncate(t.Into), int64(t.Into/time.Second)
			if err := gather(tx, before, into); err != nil {
				return err
			}
		}
		return nil
	})
}

// gather makes one point of those that fall into the same stretch of so many seconds, with
// the highest of each figure. What held at the end of a stretch lasts beyond it, so it
// becomes a point of the next one, unless there is one. The server's own points are kept
// at every look and last no longer.
func gather(tx *gorm.DB, before time.Time, into int64) error {
	const stretch = "FROM_UNIXTIME(UNIX_TIMESTAMP(at) DIV ? * ?)"
	const between = "UNIX_TIMESTAMP(at) % ? <> 0 AND at < ?"
	for _, q := range []struct {
		sql  string
		args []any
	}{
		{`INSERT IGNORE INTO history (server_id, name, at, size, sessions)
			SELECT h.server_id, h.name, l.began + INTERVAL ? SECOND, h.size, h.sessions FROM history h JOIN (
				SELECT server_id, name, ` + stretch + ` AS began, MAX(at) AS latest FROM history
				WHERE name <> '' AND ` + between + ` GROUP BY server_id, name, began) l
			ON h.server_id = l.server_id AND h.name = l.name AND h.at = l.latest`,
			[]any{into, into, into, into, before}},
		{`INSERT INTO history (server_id, name, at, size, sessions)
			SELECT server_id, name, ` + stretch + ` AS began, MAX(size), MAX(sessions) FROM history
			WHERE ` + between + ` GROUP BY server_id, name, began
			ON DUPLICATE KEY UPDATE
				size = IF(history.size IS NULL OR VALUES(size) > history.size, VALUES(size), history.size),
				sessions = GREATEST(history.sessions, VALUES(sessions))`,
			[]any{into, into, into, before}},
		{"DELETE FROM history WHERE " + between, []any{into, before}},
	} {
		if err := tx.Exec(q.sql, q.args...).Error; err != nil {
			return err
		}
	}
	return nil
}
