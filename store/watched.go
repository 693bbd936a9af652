package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"example.com/genarch/core/catalog"
)

type watchedRow struct {
	ServerID     uint64 `gorm:"primaryKey;autoIncrement:false"`
	Identity     string
	SinceAt      time.Time
	UntilAt      time.Time
	BlindSeconds int64
}

func (watchedRow) TableName() string { return "watched_servers" }

type useRow struct {
	ServerID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Kind     string `gorm:"primaryKey"`
	Name     string `gorm:"primaryKey"`
	Host     string `gorm:"primaryKey"`
	SeenAt   time.Time
}

func (useRow) TableName() string { return "last_uses" }

// The kinds of what is used.
const (
	useDatabase = "database"
	useAccount  = "account"
)

func useRowFrom(server uint64, u catalog.Used, at time.Time) useRow {
	if u.Database != "" {
		return useRow{server, useDatabase, u.Database, "", at.UTC()}
	}
	return useRow{server, useAccount, u.Account.Name, u.Account.Host, at.UTC()}
}

func (r useRow) used() catalog.Used {
	if r.Kind == useDatabase {
		return catalog.Used{Database: r.Name}
	}
	return catalog.Used{Account: catalog.Principal{Name: r.Name, Host: r.Host}}
}

// maxUses bounds what is read of one server.
const maxUses = 50000

// Watched reads what was seen of a server's use, as long as it is the instance
// with this identity; ErrNotFound if it was not watched yet.
func (s *Store) Watched(ctx context.Context, server uint64, identity string) (catalog.Watched, error) {
	var row watchedRow
	if err := s.db.WithContext(ctx).Where("identity = ?", identity).Take(&row, server).Error; err != nil {
		return catalog.Watched{}, translate(err)
	}
	var uses []useRow
	if err := s.db.WithContext(ctx).Where("server_id = ?", server).Order("seen_at DESC").Limit(maxUses).Find(&uses).
		Error; err != nil {
		return catalog.Watched{}, translate(err)
	}
	w := catalog.Watched{Identity: row.Identity, Since: row.SinceAt, Until: row.UntilAt,
		Unobserved: time.Duration(row.BlindSeconds) * time.Second, Uses: make(map[catalog.Used]time.Time, len(uses))}
	for _, u := range uses {
		w.Uses[u.used()] = u.SeenAt
	}
	return w, nil
}

// usesAtOnce is how many are written with one statement.
const usesAtOnce = 500

// SaveWatched writes what was seen of a server; of its uses, those that are given.
// One with a zero time is forgotten: what bore the name is gone. What was kept of
// another instance goes. A server that is not registered any more is no error.
func (s *Store) SaveWatched(ctx context.Context, server uint64, w catalog.Watched) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		var there int64
		if err := tx.Model(&serverRow{}).Where("id = ?", server).Count(&there).Error; err != nil || there == 0 {
			return err
		}
		if err := tx.Where("server_id = ? AND identity <> ?", server, w.Identity).Delete(&watchedRow{}).
			Error; err != nil {
			return err
		}
		row := watchedRow{server, w.Identity, w.Since.UTC(), w.Until.UTC(), int64(w.Unobserved.Seconds())}
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error; err != nil {
			return err
		}
		var rows []useRow
		for u, at := range w.Uses {
			if r := useRowFrom(server, u, at); !at.IsZero() {
				rows = append(rows, r)
			} else if err := tx.Delete(&r).Error; err != nil {
				return err
			}
		}
		if len(rows) == 0 {
			return nil
		}
		// Another service may have seen it later.
		later := clause.Assignments(map[string]any{"seen_at": gorm.Expr("GREATEST(seen_at, VALUES(seen_at))")})
		return tx.Clauses(clause.OnConflict{DoUpdates: later}).CreateInBatches(&rows, usesAtOnce).Error
	})
}
