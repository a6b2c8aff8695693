package store

import (
	"time"

	"gorm.io/gorm/clause"
)

// A Presence is a page that has a draft open. Stream names its stream of
// events.
type Presence struct {
	Stream    string `gorm:"primaryKey"`
	DraftID   uint64
	AccountID uint64
	Name      string
	SeenAt    time.Time
}

// TableName names the table of presences.
func (Presence) TableName() string { return "presence" }

// Appear says that pages are there, still or anew, and forgets those of their
// draft that were not seen since.
func (t *Tx) Appear(draft uint64, rows []Presence, since time.Time) error {
	if err := t.db.Where("draft_id = ? AND seen_at < ?", draft, since).Delete(&Presence{}).Error; err != nil || len(rows) == 0 {
		return err
	}
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, 500).Error
}

// Leave says that a page is gone.
func (t *Tx) Leave(stream string) error {
	return t.db.Where("stream = ?", stream).Delete(&Presence{}).Error
}

// Present lists the pages seen since, by name.
func (t *Tx) Present(draft uint64, since time.Time) ([]Presence, error) {
	var rows []Presence
	return rows, t.db.Where("draft_id = ? AND seen_at >= ?", draft, since).Order("name, stream").Find(&rows).Error
}

// Pulse returns the revision of a draft and the release of its estate, to
// learn whether anything happened.
func (t *Tx) Pulse(draft uint64) (revision, release uint64, err error) {
	var row struct{ Revision, Release uint64 }
	err = found(t.db.Table("drafts").Select("drafts.revision, estates.`release`").
		Joins("JOIN estates ON estates.id = drafts.estate_id").Where("drafts.id = ?", draft).Take(&row))
	return row.Revision, row.Release, err
}
