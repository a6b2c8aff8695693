package store

import (
	"time"
)

// A Record says who did what, when and from where. BeforeIt and AfterIt are
// JSON. The database refuses to change or delete one.
type Record struct {
	ID        uint64 `gorm:"primaryKey"`
	At        time.Time
	AccountID uint64
	Who       string
	Origin    string
	Request   string
	Action    string
	EstateID  uint64
	Draft     string
	Object    string
	BeforeIt  *string
	AfterIt   *string
}

// TableName names the table of records.
func (Record) TableName() string { return "audit" }

// A RecordFilter chooses records; zero fields choose all.
type RecordFilter struct {
	Estate       uint64 // 0 for what concerns no estate
	Who          string // exactly
	Action       string // exactly, or a family such as "draft." with its dot
	Text         string // in the object or the draft
	Since, Until time.Time
	Before       uint64 // ID below which to go on
	Limit        int
	Lines        bool // without BeforeIt and AfterIt
}

// AddRecord adds to the audit.
func (t *Tx) AddRecord(row *Record) error { return t.db.Create(row).Error }

// Records lists records, newest first.
func (t *Tx) Records(f RecordFilter) ([]Record, error) {
	db := t.db.Where("estate_id = ?", f.Estate)
	if f.Who != "" {
		db = db.Where("who = ?", f.Who)
	}
	if n := len(f.Action); n > 0 && f.Action[n-1] == '.' {
		db = db.Where("LEFT(action, ?) = ?", n, f.Action)
	} else if n > 0 {
		db = db.Where("action = ?", f.Action)
	}
	if f.Text != "" {
		db = db.Where("LOCATE(?, object) OR draft = ?", f.Text, f.Text)
	}
	if !f.Since.IsZero() {
		db = db.Where("at >= ?", f.Since)
	}
	if !f.Until.IsZero() {
		db = db.Where("at < ?", f.Until)
	}
	if f.Before != 0 {
		db = db.Where("id < ?", f.Before)
	}
	if f.Lines {
		db = db.Omit("before_it", "after_it")
	}
	var rows []Record
	return rows, db.Order("id DESC").Limit(f.Limit).Find(&rows).Error
}
