package store

import (
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// A Tx is a transaction on the store.
type Tx struct{ db *gorm.DB }

// An Estate is the row of an estate. Revision counts its edits, undone ones
// and all; Allocations is the document's section as JSON.
type Estate struct {
	ID          uint64 `gorm:"primaryKey"`
	Key         string
	Revision    uint64
	Allocations string
	CreatedAt   time.Time
}

// A Part is the head, a site or an overlay of an estate. Body is JSON as the
// document has it; Revision is the estate's at its last change.
type Part struct {
	EstateID uint64 `gorm:"primaryKey"`
	Kind     Kind   `gorm:"primaryKey"`
	Key      string `gorm:"primaryKey"`
	Place    int64
	Revision uint64
	Body     string
}

// Kind is what a part is.
type Kind string

// The kinds of part. An estate has one head, of empty key.
const (
	Head    Kind = "head"
	Site    Kind = "site"
	Overlay Kind = "overlay"
)

// An Edit is one step an estate took. Changes is JSON.
type Edit struct {
	EstateID uint64 `gorm:"primaryKey"`
	Number   uint64 `gorm:"primaryKey;autoIncrement:false"`
	At       time.Time
	Label    string
	Request  *string
	Undone   bool
	Changes  string
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

// Estates lists the estates in the order in which they were made.
func (t *Tx) Estates() ([]Estate, error) {
	var rows []Estate
	return rows, t.db.Omit("allocations").Order("id").Find(&rows).Error
}

// Estate returns the estate of that key; with lock, nobody else may edit it
// until the transaction ends.
func (t *Tx) Estate(key string, lock bool) (Estate, error) {
	var row Estate
	db := t.db
	if lock {
		db = db.Clauses(clause.Locking{Strength: "UPDATE"})
	}
	return row, found(db.Where("`key` = ?", key).Take(&row))
}

// Revision returns the revision of the estate of that key.
func (t *Tx) Revision(key string) (uint64, error) {
	var row Estate
	return row.Revision, found(t.db.Select("revision").Where("`key` = ?", key).Take(&row).Scan(&row))
}

// AddEstate stores a new estate and gives it its ID.
func (t *Tx) AddEstate(row *Estate) error { return t.db.Create(row).Error }

// SaveEstate stores the revision and allocations of an estate.
func (t *Tx) SaveEstate(row *Estate) error {
	return t.db.Model(&Estate{ID: row.ID}).Select("revision", "allocations").Updates(row).Error
}

// DeleteEstate removes an estate with all that belongs to it.
func (t *Tx) DeleteEstate(id uint64) error { return t.db.Delete(&Estate{ID: id}).Error }

// Parts lists all parts of an estate in document order.
func (t *Tx) Parts(estate uint64) ([]Part, error) {
	var rows []Part
	return rows, t.db.Where("estate_id = ?", estate).Order("place, `key`").Find(&rows).Error
}

// SaveParts stores parts, new or changed.
func (t *Tx) SaveParts(rows []Part) error {
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, 200).Error
}

// DeletePart removes one part.
func (t *Tx) DeletePart(estate uint64, kind Kind, key string) error {
	return t.db.Where("estate_id = ? AND kind = ? AND `key` = ?", estate, kind, key).Delete(&Part{}).Error
}

// AddEdit stores a new edit and forgets those undone before it, which can no
// longer be redone.
func (t *Tx) AddEdit(row *Edit) error {
	if err := t.db.Where("estate_id = ? AND undone", row.EstateID).Delete(&Edit{}).Error; err != nil {
		return err
	}
	return t.db.Create(row).Error
}

// EditOfRequest returns the edit that a request made before.
func (t *Tx) EditOfRequest(estate uint64, request string) (Edit, error) {
	var row Edit
	return row, found(t.db.Where("estate_id = ? AND request = ?", estate, request).Take(&row))
}

// ToUndo returns the last edit that is in force.
func (t *Tx) ToUndo(estate uint64) (Edit, error) {
	var row Edit
	return row, found(t.db.Where("estate_id = ? AND NOT undone", estate).Order("number DESC").Take(&row))
}

// ToRedo returns the first edit that was undone.
func (t *Tx) ToRedo(estate uint64) (Edit, error) {
	var row Edit
	return row, found(t.db.Where("estate_id = ? AND undone", estate).Order("number").Take(&row))
}

// SetUndone marks an edit as undone or in force.
func (t *Tx) SetUndone(row Edit, undone bool) error {
	return t.db.Model(&Edit{}).Where("estate_id = ? AND number = ?", row.EstateID, row.Number).Update("undone", undone).Error
}

// SiteKeys lists the key pairs of an estate.
func (t *Tx) SiteKeys(estate uint64) ([]SiteKey, error) {
	var rows []SiteKey
	return rows, t.db.Where("estate_id = ?", estate).Order("site").Find(&rows).Error
}

// AddSiteKeys stores new key pairs.
func (t *Tx) AddSiteKeys(rows []SiteKey) error { return t.db.CreateInBatches(rows, 200).Error }

// Part returns one part of an estate.
func (t *Tx) Part(estate uint64, kind Kind, key string) (Part, error) {
	var row Part
	return row, found(t.db.Where("estate_id = ? AND kind = ? AND `key` = ?", estate, kind, key).Take(&row))
}
