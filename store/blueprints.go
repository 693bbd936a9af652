package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"example.com/genarch/core/blueprint"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
)

type blueprintRow struct {
	Name      string `gorm:"primaryKey"`
	Version   int    `gorm:"primaryKey;autoIncrement:false"`
	Text      string
	Operator  string
	Removed   bool
	CreatedAt time.Time
}

func (blueprintRow) TableName() string { return "blueprints" }

func blueprintFrom(r blueprintRow) blueprint.Kept {
	return blueprint.Kept{Name: r.Name, Version: r.Version, Text: r.Text, Operator: r.Operator, Created: r.CreatedAt}
}

// maxBlueprints bounds the list of blueprints.
const maxBlueprints = 1000

// Blueprints lists all blueprints by name, each in its latest version.
func (s *Store) Blueprints(ctx context.Context) ([]blueprint.Kept, error) {
	var rows []blueprintRow
	latest := s.db.Table("blueprints").Select("name, MAX(version)").Where("NOT removed").Group("name")
	err := s.db.WithContext(ctx).Where("(name, version) IN (?)", latest).Order("name").Limit(maxBlueprints).
		Find(&rows).Error
	out := make([]blueprint.Kept, len(rows))
	for i, r := range rows {
		out[i] = blueprintFrom(r)
	}
	return out, translate(err)
}

// Blueprint reads one version of a blueprint, or with 0 the latest; [record.ErrNotFound] if
// there is none, or the blueprint was removed.
func (s *Store) Blueprint(ctx context.Context, name string, version int) (blueprint.Kept, error) {
	var row blueprintRow
	q := s.db.WithContext(ctx).Where("name = ? AND NOT removed", name)
	if version > 0 {
		q = q.Where("version = ?", version)
	}
	err := q.Order("version DESC").Take(&row).Error
	return blueprintFrom(row), translate(err)
}

// PutBlueprint keeps a text as the next version of a blueprint. The same text once more is
// no other version. The entry is written with a new version only.
func (s *Store) PutBlueprint(ctx context.Context, k blueprint.Kept, entry journal.Entry) (blueprint.Kept, error) {
	var kept blueprintRow
	err := s.update(ctx, func(tx *gorm.DB) error {
		var last blueprintRow
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", k.Name).Order("version DESC").
			Take(&last).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		if kept = last; last.Text == k.Text && !last.Removed && last.Version > 0 {
			return nil
		}
		kept = blueprintRow{Name: k.Name, Version: last.Version + 1, Text: k.Text, Operator: k.Operator,
			CreatedAt: time.Now().UTC().Truncate(time.Microsecond)}
		if err := tx.Create(&kept).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
	})
	return blueprintFrom(kept), err
}

// RemoveBlueprint takes a blueprint away; its versions stay on record, and are used no more.
func (s *Store) RemoveBlueprint(ctx context.Context, name string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		res := tx.Model(&blueprintRow{}).Where("name = ? AND NOT removed", name).Update("removed", true)
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return record.ErrNotFound
		}
		return s.appendJournal(tx, entry)
	})
}
