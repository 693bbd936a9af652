package store

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
)

type changeRow struct {
	ID          uint64
	Kind        string
	Server      string
	Target      string
	Becomes     string
	State       string
	Operator    string
	RunBy       string
	StopBy      string
	Intent      change.Intent   `gorm:"serializer:json"`
	Brief       change.Brief    `gorm:"serializer:json"`
	Accepted    []string        `gorm:"serializer:json"`
	Failure     *change.Failure `gorm:"serializer:json"`
	Result      string
	ObjectKey   string
	Idempotency *string
	CreatedAt   time.Time
	StartedAt   *time.Time
	EndedAt     *time.Time
}

func (changeRow) TableName() string { return "changes" }

type stepRow struct {
	ChangeID uint64 `gorm:"primaryKey"`
	Position int    `gorm:"primaryKey;autoIncrement:false"`
	Status   string
	Step     change.Step        `gorm:"serializer:json"`
	Messages []change.Message   `gorm:"serializer:json"`
	Failure  *change.Failure    `gorm:"serializer:json"`
	Clearing *clearing.Progress `gorm:"serializer:json"`
	Sender   *catalog.SessionID `gorm:"serializer:json"`
	Probed   bool
	BegunAt  *time.Time
	EndedAt  *time.Time
}

func (stepRow) TableName() string { return "change_steps" }

func changeFrom(r changeRow, steps []stepRow) change.Change {
	c := change.Change{ID: r.ID, Intent: r.Intent, Brief: r.Brief, State: change.State(r.State), Operator: r.Operator,
		RunBy: r.RunBy, StopBy: r.StopBy,
		Accepted: r.Accepted, Failure: r.Failure, Result: r.Result, ObjectKey: r.ObjectKey,
		Created: r.CreatedAt, Started: timeOf(r.StartedAt), Ended: timeOf(r.EndedAt)}
	for _, s := range steps {
		c.Steps = append(c.Steps, change.StepRun{Step: s.Step, Status: change.Status(s.Status), Messages: s.Messages,
			Failure: s.Failure, Clearing: s.Clearing, Sender: s.Sender, Probed: s.Probed, Begun: timeOf(s.BegunAt),
			Ended: timeOf(s.EndedAt)})
	}
	return c
}

func changeRowFrom(c change.Change) changeRow {
	becomes := ""
	if to, renamed := c.Intent.Becomes(); renamed {
		becomes = to.String()
	}
	if c.Accepted == nil {
		c.Accepted = []string{}
	}
	return changeRow{ID: c.ID, Kind: string(c.Intent.Kind), Server: c.Intent.Server, Target: c.Brief.Target,
		Becomes: becomes, State: string(c.State),
		Operator: c.Operator, RunBy: c.RunBy, Intent: c.Intent, Brief: c.Brief, Accepted: c.Accepted,
		Failure: c.Failure,
		Result:  c.Result, ObjectKey: c.ObjectKey, CreatedAt: c.Created.UTC(), StartedAt: timePtr(c.Started),
		EndedAt: timePtr(c.Ended)}
}

func stepRowsFrom(c change.Change) []stepRow {
	rows := make([]stepRow, len(c.Steps))
	for i, s := range c.Steps {
		if s.Messages == nil {
			s.Messages = []change.Message{}
		}
		rows[i] = stepRow{ChangeID: c.ID, Position: i, Status: string(s.Status), Step: s.Step, Messages: s.Messages,
			Failure: s.Failure, Clearing: s.Clearing, Sender: s.Sender,
			Probed: s.Probed, BegunAt: timePtr(s.Begun), EndedAt: timePtr(s.Ended)}
	}
	return rows
}

// AddChange keeps a new draft and numbers it. With an idempotency key that the
// operator used before, it returns the change made then instead.
func (s *Store) AddChange(ctx context.Context, c change.Change, key string, entry journal.Entry) (change.Change,
	error) {
	row := changeRowFrom(c)
	if key != "" {
		row.Idempotency = &key
	}
	err := s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		c.ID = row.ID
		entry.Change = row.ID
		if steps := stepRowsFrom(c); len(steps) > 0 {
			if err := tx.Create(&steps).Error; err != nil {
				return err
			}
		}
		if err := s.addSecrets(tx, c); err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
	})
	return c, err
}

// ChangeByKey finds the change that an operator made with an idempotency key.
func (s *Store) ChangeByKey(ctx context.Context, operator, key string) (change.Change, error) {
	var row changeRow
	if err := s.db.WithContext(ctx).Where("operator = ? AND idempotency = ?", operator, key).Take(&row).
		Error; err != nil {
		return change.Change{}, translate(err)
	}
	return s.withSteps(ctx, row)
}

// Change reads one change with its steps.
func (s *Store) Change(ctx context.Context, id uint64) (change.Change, error) {
	var row changeRow
	if err := s.db.WithContext(ctx).Take(&row, id).Error; err != nil {
		return change.Change{}, translate(err)
	}
	return s.withSteps(ctx, row)
}

func (s *Store) withSteps(ctx context.Context, row changeRow) (change.Change, error) {
	var steps []stepRow
	err := s.db.WithContext(ctx).Where("change_id = ?", row.ID).Order("position").Find(&steps).Error
	return changeFrom(row, steps), translate(err)
}

// Changes lists changes without their steps, the newest first.
func (s *Store) Changes(ctx context.Context, f change.Filter) ([]change.Change, error) {
	q := s.db.WithContext(ctx).Order("id DESC").Limit(f.Limit)
	if f.Server != "" {
		q = q.Where("server = ?", f.Server)
	}
	if f.Target != "" {
		q = q.Where("(target = ? OR becomes = ?)", f.Target, f.Target)
	}
	if f.State != "" {
		q = q.Where("state = ?", string(f.State))
	}
	if f.Operator != "" {
		q = q.Where("(operator = ? OR run_by = ?)", f.Operator, f.Operator)
	}
	if f.Kind != "" {
		q = q.Where("kind = ?", string(f.Kind))
	}
	q = within(q, "created_at", f.Since, f.Until)
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	var rows []changeRow
	err := q.Find(&rows).Error
	out := make([]change.Change, len(rows))
	for i, r := range rows {
		out[i] = changeFrom(r, nil)
	}
	return out, translate(err)
}

// within narrows a reading to a time; the end is not included.
func within(q *gorm.DB, column string, since, until time.Time) *gorm.DB {
	if !since.IsZero() {
		q = q.Where(column+" >= ?", since.UTC())
	}
	if !until.IsZero() {
		q = q.Where(column+" < ?", until.UTC())
	}
	return q
}

// beneath is a pattern of LIKE that fits what begins with a text and a separator.
func beneath(text, separator string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + separator + "%"
}

// SaveChange writes a change and its steps back together with the journal
// entries that tell of it. from is the state that it must still be in
// (ErrStale): two operators cannot both move it on.
func (s *Store) SaveChange(ctx context.Context, c change.Change, from change.State, entries ...journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error { return s.saveChange(tx, c, from, entries) })
}

// SaveRunning is SaveChange for a change that runs: only whoever holds its claim
// may write it (ErrStale). A service that was held up while another one took the
// change over can alter nothing any more.
func (s *Store) SaveRunning(ctx context.Context, c change.Change, holder string, entries ...journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := heldBy(tx, c.ID, holder); err != nil {
			return err
		}
		return s.saveChange(tx, c, change.Running, entries)
	})
}

// heldBy locks the claim of a change, if it is that of holder.
func heldBy(tx *gorm.DB, id uint64, holder string) error {
	var held claimRow
	err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("change_id = ?", id).Take(&held).Error
	if errors.Is(err, gorm.ErrRecordNotFound) || err == nil && held.Holder != holder {
		return record.ErrStale
	}
	return err
}

func (s *Store) saveChange(tx *gorm.DB, c change.Change, from change.State, entries []journal.Entry) error {
	row := changeRowFrom(c)
	res := tx.Model(&row).Select("State", "RunBy", "Accepted", "Failure", "Result", "ObjectKey", "StartedAt",
		"EndedAt").
		Where("state = ?", string(from)).Updates(&row)
	if res.Error != nil {
		return res.Error
	}
	if res.RowsAffected == 0 {
		return record.ErrStale
	}
	// A step that is still planned is as it was when the change was added.
	steps := slices.DeleteFunc(stepRowsFrom(c), func(s stepRow) bool { return s.Status == string(change.Planned) })
	if len(steps) > 0 {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&steps).Error; err != nil {
			return err
		}
	}
	if err := forgetSecrets(tx, c); err != nil {
		return err
	}
	return s.appendJournal(tx, entries...)
}

type claimRow struct {
	Target     string `gorm:"primaryKey"`
	ChangeID   uint64
	Operator   string
	Holder     string
	TakenAt    time.Time
	LeaseUntil time.Time
}

func (claimRow) TableName() string { return "claims" }

// maxClaim is the width of the claims' target: longer ones are cut, which only
// makes two rare names wait for each other.
const maxClaim = 190

func claimKey(target string) string {
	r := []rune(target)
	return string(r[:min(len(r), maxClaim)])
}

// Claim takes the target of a change for holder and saves the change with it,
// in one transaction. A target that another change works on gives a
// [*record.Busy]; one on which another change ended after read, when the server
// was read for this one, gives ErrMoved.
func (s *Store) Claim(ctx context.Context, c change.Change, from change.State, read time.Time, holder string,
	lease time.Duration, entries ...journal.Entry) error {
	key := claimKey(c.Brief.Target)
	err := s.update(ctx, func(tx *gorm.DB) error {
		now := tx.NowFunc()
		if err := tx.Create(&claimRow{key, c.ID, c.RunBy, holder, now, now.Add(lease)}).Error; err != nil {
			return err
		}
		var ended int64
		if err := tx.Model(&changeRow{}).Where("target = ? AND started_at IS NOT NULL AND ended_at >= ?",
			c.Brief.Target, read.UTC()).Count(&ended).Error; err != nil {
			return err
		}
		if ended > 0 {
			return record.ErrMoved
		}
		return s.saveChange(tx, c, from, entries)
	})
	if err != record.ErrExists {
		return err
	}
	var held claimRow
	if err := s.db.WithContext(ctx).Where("target = ?", key).Take(&held).Error; err != nil {
		return record.ErrStale // it has just been given back: look again
	}
	return &record.Busy{Target: c.Brief.Target, Change: held.ChangeID, Operator: held.Operator, Since: held.TakenAt}
}

// Renew extends a lease; ErrStale if holder lost it.
func (s *Store) Renew(ctx context.Context, id uint64, holder string, lease time.Duration) error {
	res := s.db.WithContext(ctx).Model(&claimRow{}).Where("change_id = ? AND holder = ?", id, holder).
		Update("lease_until", s.db.NowFunc().Add(lease))
	if res.Error != nil {
		return translate(res.Error)
	}
	if res.RowsAffected == 0 {
		return record.ErrStale
	}
	return nil
}

// Finish saves a change in its final state and gives its claim back, which must
// be that of holder (ErrStale).
func (s *Store) Finish(ctx context.Context, c change.Change, holder string, entries ...journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := heldBy(tx, c.ID, holder); err != nil {
			return err
		}
		if err := s.saveChange(tx, c, change.Running, entries); err != nil {
			return err
		}
		return tx.Where("change_id = ?", c.ID).Delete(&claimRow{}).Error
	})
}

// AskStop notes who wants a running change to stop, unless somebody asked before;
// ErrStale if it has ended.
func (s *Store) AskStop(ctx context.Context, id uint64, operator string, e journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		res := tx.Model(&changeRow{}).Where("id = ? AND state = ?", id, string(change.Running)).Update("stop_by",
			gorm.Expr("IF(stop_by = '', ?, stop_by)", operator))
		if res.Error == nil && res.RowsAffected == 0 {
			return record.ErrStale
		}
		if res.Error != nil {
			return res.Error
		}
		return s.appendJournal(tx, e)
	})
}

// StopAsked is who wants a change to stop; empty: nobody.
func (s *Store) StopAsked(ctx context.Context, id uint64) (string, error) {
	var row changeRow
	err := s.db.WithContext(ctx).Select("stop_by").Take(&row, id).Error
	return row.StopBy, translate(err)
}

// Orphans takes over, for holder, at most so many of the running changes whose
// lease has run out: the service that ran them has died.
func (s *Store) Orphans(ctx context.Context, holder string, lease time.Duration, most int) ([]change.Change, error) {
	now := s.db.NowFunc()
	var held []claimRow
	if err := s.db.WithContext(ctx).Where("lease_until < ?", now).Order("lease_until").Limit(most).Find(&held).
		Error; err != nil {
		return nil, translate(err)
	}
	var out []change.Change
	for _, h := range held {
		res := s.db.WithContext(ctx).Model(&claimRow{}).Where("change_id = ? AND lease_until = ?", h.ChangeID,
			h.LeaseUntil).
			Updates(map[string]any{"holder": holder, "lease_until": now.Add(lease)})
		if res.Error != nil || res.RowsAffected == 0 {
			continue // another service was quicker
		}
		c, err := s.Change(ctx, h.ChangeID)
		if err != nil {
			return out, err
		}
		out = append(out, c)
	}
	return out, nil
}
