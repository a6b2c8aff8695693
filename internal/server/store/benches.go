package store

import "time"

// A Bench is what a tunnel bore one way, from a site towards its peer. Data is JSON.
type Bench struct {
	ID       uint64 `gorm:"primaryKey"`
	EstateID uint64
	At       time.Time
	Author   string
	Site     string
	// Of the tunnel at the site.
	Interface string
	Link      string
	Peer      string
	PeerLink  string
	Kbps      int // up to which it was loaded
	Data      string
}

// BenchDays is how long benches are kept.
const BenchDays = 400

// AddBench keeps one, and lets go of those that are too old.
func (t *Tx) AddBench(row *Bench) error {
	if err := t.db.Exec("DELETE FROM benches WHERE at < UTC_TIMESTAMP(3) - INTERVAL ? DAY", BenchDays).Error; err != nil {
		return err
	}
	return t.db.Create(row).Error
}

// Benches lists those from or towards a site since a time, the newest first, at most so many.
func (t *Tx) Benches(estate uint64, site string, since time.Time, most int) (rows []Bench, err error) {
	return rows, t.db.Where("estate_id = ? AND (site = ? OR peer = ?) AND at >= ?", estate, site, site, since).Order("id DESC").Limit(most).Find(&rows).Error
}
