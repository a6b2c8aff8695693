package store

import (
	"slices"
	"time"

	"gorm.io/gorm"
)

// A Rollout is a release on its way to the gateways of an estate. Settings, Plan and Proof are
// JSON.
type Rollout struct {
	ID         uint64 `gorm:"primaryKey"`
	EstateID   uint64
	Number     uint64
	ReleaseNo  uint64
	Author     string
	MadeAt     time.Time
	EndedAt    *time.Time
	Active     *int
	State      string
	Words      string
	Settings   string
	Plan       string
	Round      int
	Phase      string
	Since      time.Time
	Proof      string
	Version    uint
	Server     string
	LeaseUntil time.Time `gorm:"default:'2000-01-01 00:00:00.000'"`
}

// A RolloutNote is one thing that happened in a rollout.
type RolloutNote struct {
	ID        uint64 `gorm:"primaryKey"`
	RolloutID uint64
	At        time.Time
	Words     string
}

// RolloutLease is how long a server that says nothing keeps a rollout to itself, in seconds.
const RolloutLease = 5

// AddRollout keeps a rollout under the next number. Another one that is active is ErrExists.
func (t *Tx) AddRollout(row *Rollout) error {
	var last struct{ Number uint64 }
	if err := t.db.Model(&Rollout{}).Select("COALESCE(MAX(number), 0) AS number").Where("estate_id = ?", row.EstateID).Take(&last).Error; err != nil {
		return err
	}
	row.Number = last.Number + 1
	return t.db.Omit("LeaseUntil").Create(row).Error
}

// Rollouts lists those of an estate, newest first, at most 200.
func (t *Tx) Rollouts(estate uint64) (rows []Rollout, err error) {
	return rows, t.db.Omit("plan", "proof").Where("estate_id = ?", estate).Order("number DESC").Limit(200).Find(&rows).Error
}

// Rollout returns one; with lock, nobody else changes it until the transaction ends.
func (t *Tx) Rollout(estate, number uint64, lock bool) (row Rollout, err error) {
	return row, found(locked(t.db, lock).Where("estate_id = ? AND number = ?", estate, number).Take(&row))
}

// ActiveRollout returns the one that is on its way, or ErrNotFound.
func (t *Tx) ActiveRollout(estate uint64, lock bool) (row Rollout, err error) {
	return row, found(locked(t.db, lock).Where("estate_id = ? AND active = 1", estate).Take(&row))
}

// LeaseRollouts takes what nobody goes on with, and keeps what a server goes on with, and
// lists that.
func (t *Tx) LeaseRollouts(server string) (rows []Rollout, err error) {
	err = t.db.Exec("UPDATE rollouts SET server = ?, lease_until = UTC_TIMESTAMP(3) + INTERVAL ? SECOND WHERE active = 1 AND (server = ? OR lease_until < UTC_TIMESTAMP(3))", server, RolloutLease, server).Error
	if err != nil {
		return nil, err
	}
	return rows, t.db.Select("id", "estate_id", "number").Where("active = 1 AND server = ?", server).Find(&rows).Error
}

// LeasedRollout returns one, locked, that a server still goes on with; else ErrNotFound.
func (t *Tx) LeasedRollout(id uint64, server string) (row Rollout, err error) {
	return row, found(locked(t.db, true).Where("id = ? AND server = ? AND active = 1 AND lease_until >= UTC_TIMESTAMP(3)", id, server).Take(&row))
}

// SaveRollout changes columns of a rollout.
func (t *Tx) SaveRollout(row *Rollout, columns ...string) error {
	row.Version++
	return t.db.Model(row).Select(append(columns, "version")).Updates(row).Error
}

// RolloutVersion tells whether anything of an estate's rollouts changed.
func (t *Tx) RolloutVersion(estate uint64) (sum uint64, err error) {
	return sum, t.db.Model(&Rollout{}).Select("COALESCE(SUM(version), 0) + COUNT(*)").Where("estate_id = ?", estate).Scan(&sum).Error
}

// NoteRollout keeps what happened.
func (t *Tx) NoteRollout(rollout uint64, at time.Time, words string) error {
	return t.db.Create(&RolloutNote{RolloutID: rollout, At: at, Words: words}).Error
}

// RolloutNotes lists what happened, in its order: the last 2,000.
func (t *Tx) RolloutNotes(rollout uint64) (rows []RolloutNote, err error) {
	last := t.db.Model(&RolloutNote{}).Where("rollout_id = ?", rollout).Order("id DESC").Limit(2000)
	return rows, t.db.Table("(?) AS n", last).Order("id").Find(&rows).Error
}

// WantAt says what gateways are to be: a stage between two releases. Each is another attempt:
// how the one before went is said no more.
func (t *Tx) WantAt(estate uint64, sites []string, release, base uint64, stage int) error {
	err := t.db.Model(&GatewayLine{}).Where("estate_id = ? AND site IN ?", estate, sites).
		Updates(map[string]any{"phase": "sending", "words": "", "changed_at": gorm.Expr("UTC_TIMESTAMP(3)")}).Error
	if err != nil {
		return err
	}
	return t.db.Model(&Gateway{}).Where("estate_id = ? AND site IN ?", estate, sites).
		Updates(map[string]any{"wanted": release, "base": base, "stage": stage, "attempt": gorm.Expr("attempt + 1")}).Error
}

// GatewayStates returns what gateways of an estate reported last, as JSON, by site.
func (t *Tx) GatewayStates(estate uint64) (map[string]string, error) {
	var rows []GatewayLine
	if err := t.db.Select("site", "state").Where("estate_id = ? AND state IS NOT NULL", estate).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make(map[string]string, len(rows))
	for i := range rows {
		out[rows[i].Site] = *rows[i].State
	}
	return out, nil
}

// GatewayStatesOf returns what some gateways of an estate reported last, as JSON, by site.
func (t *Tx) GatewayStatesOf(estate uint64, sites []string) (map[string]string, error) {
	out := make(map[string]string, len(sites))
	for part := range slices.Chunk(sites, 500) {
		var rows []GatewayLine
		if err := t.db.Select("site", "state").Where("estate_id = ? AND site IN ? AND state IS NOT NULL", estate, part).Find(&rows).Error; err != nil {
			return nil, err
		}
		for i := range rows {
			out[rows[i].Site] = *rows[i].State
		}
	}
	return out, nil
}

// Now is the database's time.
func (t *Tx) Now() (at time.Time, err error) {
	return at, t.db.Raw("SELECT UTC_TIMESTAMP(3)").Scan(&at).Error
}
