package store

import (
	"time"

	"gorm.io/gorm/clause"
)

// An Event is something that began to be otherwise than designed, or ended.
type Event struct {
	ID        uint64 `gorm:"primaryKey"`
	EstateID  uint64
	At        time.Time
	Kind      string
	Code      string
	Sure      string
	Words     string
	Site      string
	Link      string
	Part      string
	Tunnels   int
	Cut       int
	Lasted    int // seconds, of one that ended
	ReleaseNo uint64
	Quiet     bool // it began in a window of maintenance
}

// A Trouble is one that lasts. Data is JSON.
type Trouble struct {
	EstateID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Name     string `gorm:"primaryKey"`
	EventID  uint64
	Since    time.Time
	Data     string
	Quiet    bool // nobody was told
}

// A Window is one of maintenance, of a site or of all sites.
type Window struct {
	ID       uint64 `gorm:"primaryKey"`
	EstateID uint64
	Site     string
	BeginsAt time.Time
	Minutes  int
	Every    string
	Words    string
	Author   string
	MadeAt   time.Time
}

// A Listener is who is told of events. Sealed is the secret that signs what a webhook is sent.
type Listener struct {
	ID       uint64 `gorm:"primaryKey"`
	EstateID uint64
	Kind     string
	Target   string
	CutOnly  bool
	FromTime string
	ToTime   string
	Sealed   []byte
	Author   string
	MadeAt   time.Time
}

// A Message is an event that a listener is to be told of.
type Message struct {
	ID         uint64 `gorm:"primaryKey"`
	ListenerID uint64
	EventID    uint64
	DueAt      time.Time
	Tries      int
	SentAt     *time.Time
	Words      string // why it was not taken
}

// How long events are kept, in days, how long a server that says nothing keeps an estate's events
// to itself, in seconds, and how many events are told at once.
const (
	EventDays  = 90
	EventLease = 5
	mostDue    = 32
)

// LeaseEvents makes a server look after the events of estates that have gateways and that no
// other one looks after, and lists those of which it does.
func (t *Tx) LeaseEvents(server string) (estates []uint64, err error) {
	err = t.db.Exec("INSERT IGNORE INTO event_leases (estate_id) SELECT DISTINCT estate_id FROM gateways").Error
	if err != nil {
		return nil, err
	}
	err = t.db.Exec("UPDATE event_leases SET server = ?, lease_until = UTC_TIMESTAMP(3) + INTERVAL ? SECOND WHERE server = ? OR lease_until < UTC_TIMESTAMP(3)", server, EventLease, server).Error
	if err != nil {
		return nil, err
	}
	return estates, t.db.Table("event_leases").Where("server = ?", server).Order("estate_id").Pluck("estate_id", &estates).Error
}

// LeadsEvents reports whether a server still looks after an estate's events, locking it.
func (t *Tx) LeadsEvents(estate uint64, server string) (bool, error) {
	var n int64
	err := t.db.Raw("SELECT COUNT(*) FROM event_leases WHERE estate_id = ? AND server = ? AND lease_until >= UTC_TIMESTAMP(3) FOR UPDATE", estate, server).Scan(&n).Error
	return n > 0, err
}

// AddEvent keeps an event.
func (t *Tx) AddEvent(row *Event) error { return t.db.Create(row).Error }

// ForgetEvents lets go of what is older than is kept.
func (t *Tx) ForgetEvents() error {
	return t.db.Exec("DELETE FROM events WHERE at < UTC_TIMESTAMP(3) - INTERVAL ? DAY LIMIT 5000", EventDays).Error
}

// Events lists events of an estate whose number is greater than after, or, with before, smaller
// than that; the newest first, at most so many. What is empty in like does not matter.
func (t *Tx) Events(estate, after, before uint64, like Event, most int) (rows []Event, err error) {
	q := t.db.Where("estate_id = ? AND id > ?", estate, after)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	if like.Kind != "" {
		q = q.Where("kind = ?", like.Kind)
	}
	if like.Code != "" {
		q = q.Where("code = ?", like.Code)
	}
	if like.Site != "" {
		q = q.Where("site = ?", like.Site)
	}
	if after > 0 && before == 0 { // whoever follows wants the next ones
		return rows, q.Order("id").Limit(most).Find(&rows).Error
	}
	return rows, q.Order("id DESC").Limit(most).Find(&rows).Error
}

// EventByID returns one.
func (t *Tx) EventByID(id uint64) (row Event, err error) { return row, found(t.db.Take(&row, id)) }

// Troubles lists those of an estate that last.
func (t *Tx) Troubles(estate uint64) (rows []Trouble, err error) {
	return rows, t.db.Where("estate_id = ?", estate).Order("event_id").Find(&rows).Error
}

// PutTrouble keeps one that lasts.
func (t *Tx) PutTrouble(row *Trouble) error {
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error
}

// EndTrouble forgets one that lasts no longer.
func (t *Tx) EndTrouble(estate uint64, name string) error {
	return t.db.Where("estate_id = ? AND name = ?", estate, name).Delete(&Trouble{}).Error
}

// Listeners lists who is told of an estate's events.
func (t *Tx) Listeners(estate uint64) (rows []Listener, err error) {
	return rows, t.db.Where("estate_id = ?", estate).Order("id").Find(&rows).Error
}

// AllListeners lists those of all estates.
func (t *Tx) AllListeners() (rows []Listener, err error) {
	return rows, t.db.Order("id").Find(&rows).Error
}

// AddListener keeps one.
func (t *Tx) AddListener(row *Listener) error { return t.db.Create(row).Error }

// SealListener seals the secret of one anew.
func (t *Tx) SealListener(row *Listener) error {
	return t.db.Model(row).Select("sealed").Updates(row).Error
}

// Listener returns one.
func (t *Tx) Listener(estate, id uint64) (row Listener, err error) {
	return row, found(t.db.Where("estate_id = ? AND id = ?", estate, id).Take(&row))
}

// DropListener lets one be told nothing more.
func (t *Tx) DropListener(estate, id uint64) (int64, error) {
	r := t.db.Where("estate_id = ? AND id = ?", estate, id).Delete(&Listener{})
	return r.RowsAffected, r.Error
}

// AddMessage keeps what a listener is to be told.
func (t *Tx) AddMessage(row *Message) error { return t.db.Create(row).Error }

// DueMessages lists what is to be told now, locked; another server takes others.
func (t *Tx) DueMessages() (rows []Message, err error) {
	return rows, t.db.Raw("SELECT * FROM messages WHERE sent_at IS NULL AND due_at <= UTC_TIMESTAMP(3) ORDER BY due_at LIMIT ? FOR UPDATE SKIP LOCKED", mostDue).Scan(&rows).Error
}

// SaveMessage says how telling ended.
func (t *Tx) SaveMessage(row *Message) error {
	return t.db.Model(row).Select("due_at", "tries", "sent_at", "words").Updates(row).Error
}

// LastMessages lists the latest of each listener of an estate.
func (t *Tx) LastMessages(estate uint64) (rows []Message, err error) {
	return rows, t.db.Raw("SELECT m.* FROM messages AS m JOIN (SELECT MAX(m2.id) AS id FROM messages AS m2 JOIN listeners AS l ON l.id = m2.listener_id WHERE l.estate_id = ? GROUP BY m2.listener_id) AS last ON last.id = m.id", estate).Scan(&rows).Error
}

// Windows lists an estate's windows of maintenance.
func (t *Tx) Windows(estate uint64) (rows []Window, err error) {
	return rows, t.db.Where("estate_id = ?", estate).Order("begins_at, id").Find(&rows).Error
}

// AddWindow keeps one.
func (t *Tx) AddWindow(row *Window) error { return t.db.Create(row).Error }

// DropWindow forgets one.
func (t *Tx) DropWindow(estate, id uint64) (int64, error) {
	r := t.db.Where("estate_id = ? AND id = ?", estate, id).Delete(&Window{})
	return r.RowsAffected, r.Error
}
