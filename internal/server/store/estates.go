package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// A Tx is a transaction on the store.
type Tx struct{ db *gorm.DB }

// An Estate is one organisation's network. Release is the number of the
// release in force.
type Estate struct {
	ID        uint64 `gorm:"primaryKey"`
	Key       string
	Name      string
	Release   uint64
	CreatedAt time.Time
}

// A Draft is a state of an estate under work. Revision counts its steps: edits,
// undos and redos; Base is the release it was branched from or brought up to;
// Allocations is the document's section as JSON.
type Draft struct {
	ID          uint64 `gorm:"primaryKey"`
	EstateID    uint64
	Key         string
	Name        string
	Revision    uint64
	Base        uint64
	Allocations string
	Author      string
	CreatedAt   time.Time
	DiscardedAt *time.Time
}

// A Part is the head, a site or an overlay of a draft. Body is JSON as the
// document has it; Revision is the draft's at its last change.
type Part struct {
	DraftID  uint64 `gorm:"primaryKey"`
	Kind     Kind   `gorm:"primaryKey"`
	Key      string `gorm:"primaryKey"`
	Place    int64
	Revision uint64
	Body     string
}

// Kind is what a part is.
type Kind string

// The kinds of part. A draft has one head, of empty key.
const (
	Head    Kind = "head"
	Site    Kind = "site"
	Overlay Kind = "overlay"
)

// StepKind is what a step did.
type StepKind string

// The kinds of step.
const (
	Edited StepKind = "edit"
	Undone StepKind = "undo"
	Redone StepKind = "redo"
)

// An Edit is one step a draft took; its number is the draft's revision after
// it. Changes is JSON. Those that can no longer be redone are Dropped.
type Edit struct {
	DraftID    uint64 `gorm:"primaryKey"`
	Number     uint64 `gorm:"primaryKey;autoIncrement:false"`
	Kind       StepKind
	At         time.Time
	Author     string
	Label      string
	Request    *string
	Digest     []byte // SHA-256 of what the request asked for
	Undone     bool
	Dropped    bool
	FormerBase uint64 // the draft's base before and after it
	Base       uint64
	Changes    string
}

// A Release is an estate's state as it was released, for good. Document is the
// estate document as JSON.
type Release struct {
	EstateID uint64 `gorm:"primaryKey"`
	Number   uint64 `gorm:"primaryKey;autoIncrement:false"`
	At       time.Time
	Author   string
	Draft    string
	Message  string
	Reason   string
	Request  *string
	Digest   []byte
	Document string
}

// A SiteKey is a site's X25519 key pair, the private half sealed.
type SiteKey struct {
	EstateID  uint64 `gorm:"primaryKey"`
	Site      string `gorm:"primaryKey"`
	PublicKey string
	Sealed    []byte
}

func found(result *gorm.DB) error {
	if errors.Is(result.Error, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return result.Error
}

// locked makes a query wait for, and then keep, the rows it reads.
func locked(db *gorm.DB, lock bool) *gorm.DB {
	if lock {
		return db.Clauses(clause.Locking{Strength: "UPDATE"})
	}
	return db
}

// Estate returns the estate of that key; with lock, nobody else may release in
// it until the transaction ends.
func (t *Tx) Estate(key string, lock bool) (Estate, error) {
	var row Estate
	return row, found(locked(t.db, lock).Where("`key` = ?", key).Take(&row))
}

// LockEstate keeps others from changing who is in an estate, and from releasing in
// it, until the transaction ends.
func (t *Tx) LockEstate(id uint64) error {
	var row Estate
	return found(locked(t.db, true).Where("id = ?", id).Take(&row))
}

// AddEstate stores a new estate and gives it its ID.
func (t *Tx) AddEstate(row *Estate) error { return t.db.Create(row).Error }

// SaveEstate stores the name and the release of an estate.
func (t *Tx) SaveEstate(row *Estate) error {
	return t.db.Model(&Estate{ID: row.ID}).Select("name", "release").Updates(row).Error
}

// DeleteEstate removes an estate with all that belongs to it.
func (t *Tx) DeleteEstate(id uint64) error { return t.db.Delete(&Estate{ID: id}).Error }

// Drafts lists the drafts of an estate, discarded ones too, without their
// allocations, in the order in which they were made.
func (t *Tx) Drafts(estate uint64) ([]Draft, error) {
	var rows []Draft
	return rows, t.db.Omit("allocations").Where("estate_id = ?", estate).Order("id").Find(&rows).Error
}

// Draft returns the draft of that key; with lock, nobody else may edit it until
// the transaction ends. Its allocations are left out unless whole is set.
func (t *Tx) Draft(estate uint64, key string, lock, whole bool) (Draft, error) {
	var row Draft
	db := locked(t.db, lock)
	if !whole {
		db = db.Omit("allocations")
	}
	return row, found(db.Where("estate_id = ? AND `key` = ?", estate, key).Take(&row))
}

// AddDraft stores a new draft and gives it its ID.
func (t *Tx) AddDraft(row *Draft) error { return t.db.Create(row).Error }

// SaveDraft stores the named columns of a draft.
func (t *Tx) SaveDraft(row *Draft, columns ...string) error {
	return t.db.Model(&Draft{ID: row.ID}).Select(columns).Updates(row).Error
}

// Parts lists all parts of a draft in document order.
func (t *Tx) Parts(draft uint64) ([]Part, error) {
	var rows []Part
	return rows, t.db.Where("draft_id = ?", draft).Order("place, `key`").Find(&rows).Error
}

// SaveParts stores parts, new or changed.
func (t *Tx) SaveParts(rows []Part) error {
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, 200).Error
}

// DeletePart removes one part.
func (t *Tx) DeletePart(draft uint64, kind Kind, key string) error {
	return t.db.Where("draft_id = ? AND kind = ? AND `key` = ?", draft, kind, key).Delete(&Part{}).Error
}

// AddEdit stores a new edit; those undone before it can no longer be redone.
func (t *Tx) AddEdit(row *Edit) error {
	err := t.db.Model(&Edit{}).Where("draft_id = ? AND kind = ? AND NOT dropped AND undone", row.DraftID, Edited).Update("dropped", true).Error
	if err != nil {
		return err
	}
	return t.db.Create(row).Error
}

// AddStep stores an undo or redo.
func (t *Tx) AddStep(row *Edit) error { return t.db.Create(row).Error }

// EditOfRequest returns the edit that a request made before.
func (t *Tx) EditOfRequest(draft uint64, request string) (Edit, error) {
	var row Edit
	return row, found(t.db.Where("draft_id = ? AND request = ?", draft, request).Take(&row))
}

// ToUndo returns the last edit that is in force.
func (t *Tx) ToUndo(draft uint64) (Edit, error) {
	var row Edit
	return row, found(t.db.Where("draft_id = ? AND kind = ? AND NOT dropped AND NOT undone", draft, Edited).Order("number DESC").Take(&row))
}

// ToRedo returns the first edit that was undone.
func (t *Tx) ToRedo(draft uint64) (Edit, error) {
	var row Edit
	return row, found(t.db.Where("draft_id = ? AND kind = ? AND NOT dropped AND undone", draft, Edited).Order("number").Take(&row))
}

// SetUndone marks an edit as undone or in force.
func (t *Tx) SetUndone(row Edit, undone bool) error {
	return t.db.Model(&Edit{}).Where("draft_id = ? AND number = ?", row.DraftID, row.Number).Update("undone", undone).Error
}

// StepsAfter lists the steps of a draft after a revision, at most limit of
// them, oldest first.
func (t *Tx) StepsAfter(draft, revision uint64, limit int) ([]Edit, error) {
	var rows []Edit
	return rows, t.db.Where("draft_id = ? AND number > ?", draft, revision).Order("number").Limit(limit).Find(&rows).Error
}

// LastSteps lists the latest steps of a draft without their changes, newest
// first.
func (t *Tx) LastSteps(draft uint64, limit int) ([]Edit, error) {
	var rows []Edit
	return rows, t.db.Omit("changes").Where("draft_id = ?", draft).Order("number DESC").Limit(limit).Find(&rows).Error
}

// Releases lists the releases of an estate without their documents, newest
// first.
func (t *Tx) Releases(estate uint64) ([]Release, error) {
	var rows []Release
	return rows, t.db.Omit("document").Where("estate_id = ?", estate).Order("number DESC").Find(&rows).Error
}

// Release returns one release.
func (t *Tx) Release(estate, number uint64) (Release, error) {
	var row Release
	return row, found(t.db.Where("estate_id = ? AND number = ?", estate, number).Take(&row))
}

// ReleaseOfRequest returns the release that a request made before.
func (t *Tx) ReleaseOfRequest(estate uint64, request string) (Release, error) {
	var row Release
	return row, found(t.db.Omit("document").Where("estate_id = ? AND request = ?", estate, request).Take(&row))
}

// AddRelease stores a new release.
func (t *Tx) AddRelease(row *Release) error { return t.db.Create(row).Error }

// SiteKeys lists the key pairs of an estate.
func (t *Tx) SiteKeys(estate uint64) ([]SiteKey, error) {
	var rows []SiteKey
	return rows, t.db.Where("estate_id = ?", estate).Order("site").Find(&rows).Error
}

// AddSiteKeys stores new key pairs.
func (t *Tx) AddSiteKeys(rows []SiteKey) error { return t.db.CreateInBatches(rows, 200).Error }

// An EstateSecret is what an estate's pre-shared keys follow from, sealed.
type EstateSecret struct {
	EstateID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Sealed   []byte
}

// EstateSecret returns the secret of an estate.
func (t *Tx) EstateSecret(estate uint64) (EstateSecret, error) {
	var row EstateSecret
	return row, found(t.db.Where("estate_id = ?", estate).Take(&row))
}

// AddEstateSecret stores the secret of an estate, once.
func (t *Tx) AddEstateSecret(row *EstateSecret) error {
	return t.db.Clauses(clause.OnConflict{DoNothing: true}).Create(row).Error
}

// Sealed returns one sealed secret of the database with the estate and site it
// belongs to; site is empty for an estate's own. There may be none.
func (t *Tx) Sealed() (estate, site string, sealed []byte, err error) {
	var row struct {
		Key, Site string
		Sealed    []byte
	}
	err = found(t.db.Table("site_keys").Select("estates.`key`, site_keys.site, site_keys.sealed").Joins("JOIN estates ON estates.id = site_keys.estate_id").Limit(1).Take(&row))
	if errors.Is(err, ErrNotFound) {
		err = found(t.db.Table("estate_secrets").Select("estates.`key`, estate_secrets.sealed").Joins("JOIN estates ON estates.id = estate_secrets.estate_id").Limit(1).Take(&row))
	}
	return row.Key, row.Site, row.Sealed, err
}

// EachSecret goes through all key pairs of all estates, and (as a key of no
// site) the estates' own secrets, locked, and stores those that change.
func (t *Tx) EachSecret(change func(estate string, key *SiteKey) (changed bool, err error)) error {
	var estates []Estate
	if err := t.db.Find(&estates).Error; err != nil {
		return err
	}
	for _, e := range estates {
		var rows []SiteKey
		if err := locked(t.db, true).Where("estate_id = ?", e.ID).Find(&rows).Error; err != nil {
			return err
		}
		for i := range rows {
			changed, err := change(e.Key, &rows[i])
			if err != nil {
				return err
			}
			if changed {
				if err := t.db.Model(&rows[i]).Select("sealed").Updates(&rows[i]).Error; err != nil {
					return err
				}
			}
		}
		own, err := t.EstateSecret(e.ID)
		if errors.Is(err, ErrNotFound) {
			continue
		} else if err != nil {
			return err
		}
		key := SiteKey{Sealed: own.Sealed}
		if changed, err := change(e.Key, &key); err != nil {
			return err
		} else if changed {
			own.Sealed = key.Sealed
			if err := t.db.Save(&own).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// Counts tells how many estates, open drafts, releases and accounts there are.
func (s *Store) Counts(ctx context.Context) (map[string]int64, error) {
	out := map[string]int64{}
	for kind, query := range map[string]*gorm.DB{
		"estates": s.reads.Model(&Estate{}), "drafts": s.reads.Model(&Draft{}).Where("discarded_at IS NULL"),
		"releases": s.reads.Model(&Release{}).Where("number > 0"), "accounts": s.reads.Model(&Account{}).Where("closed_at IS NULL"),
	} {
		var n int64
		if err := query.WithContext(ctx).Count(&n).Error; err != nil {
			return nil, err
		}
		out[kind] = n
	}
	return out, nil
}
