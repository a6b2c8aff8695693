package store

import (
	"time"

	"gorm.io/gorm/clause"
)

// A Drill is a failure that is rehearsed. Prediction and DeadBefore are JSON; FoundAfter and
// BackAfter are seconds until all was as predicted, nil where it was not.
type Drill struct {
	EstateID   uint64 `gorm:"primaryKey;autoIncrement:false"`
	Number     uint64 `gorm:"primaryKey;autoIncrement:false"`
	Part       string
	ReleaseNo  uint64
	Seconds    int
	BeginsAt   time.Time
	Every      string // how often it comes again; empty for once
	State      string
	Words      string
	Prediction string
	DeadBefore string
	FoundAfter *int
	BackAfter  *int
	Stops      bool // somebody wants it over
	Author     string
	MadeAt     time.Time
	BeganAt    *time.Time
	LetGoAt    *time.Time
	EndedAt    *time.Time
	Server     string
	LeaseUntil time.Time
}

// A DrillPoint is what was seen at a second of a drill. Seen is JSON.
type DrillPoint struct {
	EstateID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Number   uint64 `gorm:"primaryKey;autoIncrement:false"`
	Second   int    `gorm:"primaryKey;autoIncrement:false"`
	Seen     string
}

// DrillLease is how long a server that says nothing keeps a drill to itself, in seconds.
const DrillLease = 4

// AddDrill keeps a drill, and gives it its number.
func (t *Tx) AddDrill(row *Drill) error {
	if _, err := t.EstateByID(row.EstateID); err != nil {
		return err
	}
	err := t.db.Raw("SELECT COALESCE(MAX(number), 0) + 1 FROM drills WHERE estate_id = ? FOR UPDATE", row.EstateID).Scan(&row.Number).Error
	if err != nil {
		return err
	}
	row.LeaseUntil = row.MadeAt.AddDate(-1, 0, 0)
	return t.db.Create(row).Error
}

// Drills lists those of an estate, the newest first, at most so many.
func (t *Tx) Drills(estate uint64, most int) (rows []Drill, err error) {
	return rows, t.db.Where("estate_id = ?", estate).Order("number DESC").Limit(most).Find(&rows).Error
}

// A DrillCount is how many drills of an estate wait for their time, are due, and go on.
type DrillCount struct{ Waiting, Due, Going int }

// CountDrills counts the drills of an estate that are not over.
func (t *Tx) CountDrills(estate uint64) (n DrillCount, err error) {
	return n, t.db.Raw("SELECT COALESCE(SUM(state = 'waiting' AND begins_at > UTC_TIMESTAMP(3)), 0) AS waiting, COALESCE(SUM(state = 'waiting' AND begins_at <= UTC_TIMESTAMP(3)), 0) AS due, COALESCE(SUM(state <> 'waiting'), 0) AS going FROM drills WHERE estate_id = ? AND ended_at IS NULL", estate).Scan(&n).Error
}

// Drill returns one; with lock nobody else changes it until the transaction ends.
func (t *Tx) Drill(estate, number uint64, lock bool) (row Drill, err error) {
	return row, found(locked(t.db, lock).Where("estate_id = ? AND number = ?", estate, number).Take(&row))
}

// LeaseDrills lets a server go on with drills that are due and that no other one goes on with, and
// lists them.
func (t *Tx) LeaseDrills(server string) (rows []Drill, err error) {
	err = t.db.Exec("UPDATE drills SET server = ?, lease_until = UTC_TIMESTAMP(3) + INTERVAL ? SECOND WHERE ended_at IS NULL AND begins_at <= UTC_TIMESTAMP(3) AND (server = ? OR lease_until < UTC_TIMESTAMP(3))", server, DrillLease, server).Error
	if err != nil {
		return nil, err
	}
	return rows, t.db.Where("ended_at IS NULL AND begins_at <= UTC_TIMESTAMP(3) AND server = ?", server).Order("estate_id, number").Find(&rows).Error
}

// SaveDrill changes columns of a drill.
func (t *Tx) SaveDrill(row *Drill, columns ...string) error {
	return t.db.Model(row).Select(columns).Updates(row).Error
}

// AddDrillPoint keeps what was seen at a second, once.
func (t *Tx) AddDrillPoint(row *DrillPoint) error {
	return t.db.Clauses(clause.Insert{Modifier: "IGNORE"}).Create(row).Error
}

// DrillPoints lists what was seen after a second of a drill.
func (t *Tx) DrillPoints(estate, number uint64, after int) (rows []DrillPoint, err error) {
	return rows, t.db.Where("estate_id = ? AND number = ? AND second > ?", estate, number, after).Order("second").Find(&rows).Error
}
