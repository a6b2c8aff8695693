package store

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// An Authority signs the certificates of gateways and servers. There is one; its private
// key is sealed.
type Authority struct {
	ID          int `gorm:"primaryKey"`
	Certificate []byte
	Sealed      []byte
	MadeAt      time.Time
}

// TableName names the table of the authority.
func (Authority) TableName() string { return "authority" }

// A JoinCode lets one gateway join as a site. Once used it is that key's alone.
type JoinCode struct {
	ID          uint64 `gorm:"primaryKey"`
	EstateID    uint64
	Site        string
	SecretHash  []byte
	Author      string
	MadeAt      time.Time
	EndsAt      time.Time
	WithdrawnAt *time.Time
	UsedAt      *time.Time
	UsedKey     []byte
}

// A Gateway is one that joined. KeyDigest is the SHA-256 of its certificate's public key.
type Gateway struct {
	EstateID        uint64 `gorm:"primaryKey;autoIncrement:false"`
	Site            string `gorm:"primaryKey"`
	KeyDigest       []byte
	ExpiresAt       time.Time
	JoinedAt        time.Time
	BarredAt        *time.Time
	Wanted          uint64 // release that it is to be brought to, 0 for none
	Base            uint64 // release from which; of the stages between the two
	Stage           int    // by core/rollout, from 0 for the base to 3 for the release
	Attempt         uint   // raised each time somebody wants it brought there
	Confirmed       uint64 // release that it said it keeps, 0 for none
	ConfirmedDigest string
	// The attempt and stage that it confirmed last.
	ConfirmedAttempt uint
	ConfirmedStage   int
	PutBack          string  // digest of what somebody set by hand, which a person lets be overwritten
	Offers           *string // JSON
	OfferedAt        *time.Time
	Refusals         string // JSON: offer → reason
}

// A GatewayLine is who holds the line of a gateway, and what came over it last. Summary is
// JSON of what lists show of the state.
type GatewayLine struct {
	EstateID  uint64 `gorm:"primaryKey;autoIncrement:false"`
	Site      string `gorm:"primaryKey"`
	Server    string
	Epoch     uint64
	Since     time.Time
	EndedAt   *time.Time
	DoubledAt *time.Time // when two machines were found with its certificate
	Phase     string
	Words     string
	Summary   string
	State     *string // JSON
	StateAt   *time.Time
	ChangedAt time.Time
}

// A LiveGateway is a gateway with its line, as lists show it. Up is whether some server
// that lives holds the line.
type LiveGateway struct {
	Gateway
	Server    string
	Up        bool
	Since     *time.Time
	EndedAt   *time.Time
	DoubledAt *time.Time
	Phase     string
	Words     string
	Summary   string
	StateAt   *time.Time
	ChangedAt *time.Time
}

// ServerGone is how long a server may say nothing before its lines count as ended, in
// seconds.
const ServerGone = 6

// Authority returns the authority, or ErrNotFound.
func (t *Tx) Authority() (row Authority, err error) {
	return row, found(t.db.Take(&row, 1))
}

// AddAuthority keeps the authority; another server may have made one first (ErrExists).
func (t *Tx) AddAuthority(row *Authority) error {
	row.ID = 1
	return t.db.Create(row).Error
}

// SaveAuthority seals the authority's key anew.
func (t *Tx) SaveAuthority(row *Authority) error {
	return t.db.Model(row).Select("sealed").Updates(row).Error
}

// AddJoinCode keeps a code.
func (t *Tx) AddJoinCode(row *JoinCode) error { return t.db.Create(row).Error }

// JoinCodes lists the codes of an estate, newest first, at most 10,000.
func (t *Tx) JoinCodes(estate uint64) (rows []JoinCode, err error) {
	return rows, t.db.Where("estate_id = ?", estate).Order("id DESC").Limit(10000).Find(&rows).Error
}

// JoinCodeOf returns the code of a secret, locked.
func (t *Tx) JoinCodeOf(hash []byte) (row JoinCode, err error) {
	return row, found(locked(t.db, true).Where("secret_hash = ?", hash).Take(&row))
}

// WithdrawJoinCodes ends the codes of a site that were not withdrawn yet.
func (t *Tx) WithdrawJoinCodes(estate uint64, site string, at time.Time) (int64, error) {
	r := t.db.Model(&JoinCode{}).Where("estate_id = ? AND site = ? AND withdrawn_at IS NULL", estate, site).Update("withdrawn_at", at)
	return r.RowsAffected, r.Error
}

// UseJoinCode binds a code to a key.
func (t *Tx) UseJoinCode(row *JoinCode) error {
	return t.db.Model(row).Select("used_at", "used_key").Updates(row).Error
}

// EstateByID returns an estate by its number.
func (t *Tx) EstateByID(id uint64) (row Estate, err error) { return row, found(t.db.Take(&row, id)) }

// Gateway returns a gateway; with lock, nobody else changes it until the transaction ends.
func (t *Tx) Gateway(estate uint64, site string, lock bool) (row Gateway, err error) {
	return row, found(locked(t.db, lock).Where("estate_id = ? AND site = ?", estate, site).Take(&row))
}

// GatewayOfKey returns the gateway whose certificate has a key.
func (t *Tx) GatewayOfKey(estate, site string, digest []byte) (row Gateway, err error) {
	return row, found(t.db.Select("gateways.*").Joins("JOIN estates ON estates.id = gateways.estate_id").
		Where("estates.`key` = ? AND gateways.site = ? AND gateways.key_digest = ?", estate, site, digest).Take(&row))
}

// PutGateway keeps a gateway, in place of an earlier one of its site.
func (t *Tx) PutGateway(row *Gateway) error {
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error
}

// SaveGateway changes columns of a gateway.
func (t *Tx) SaveGateway(row *Gateway, columns ...string) error {
	return t.db.Model(row).Select(columns).Updates(row).Error
}

// DropGateway forgets a gateway and its line.
func (t *Tx) DropGateway(estate uint64, site string) error {
	return t.db.Where("estate_id = ? AND site = ?", estate, site).Delete(&Gateway{}).Error
}

const upColumn = "(l.ended_at IS NULL AND s.seen_at >= UTC_TIMESTAMP(3) - INTERVAL ? SECOND) AS up"

func (t *Tx) live() *gorm.DB {
	return t.db.Table("gateways AS g").
		Select("g.estate_id, g.site, g.key_digest, g.expires_at, g.joined_at, g.barred_at, g.wanted, g.base, g.stage, g.attempt, g.confirmed, g.confirmed_digest, g.confirmed_attempt, g.confirmed_stage, g.offered_at, g.refusals, "+
			"l.server, l.since, l.ended_at, l.doubled_at, l.phase, l.words, l.summary, l.state_at, l.changed_at, "+upColumn, ServerGone).
		Joins("LEFT JOIN gateway_lines AS l ON l.estate_id = g.estate_id AND l.site = g.site").
		Joins("LEFT JOIN servers AS s ON s.name = l.server")
}

// LiveGateways lists the gateways of an estate by site.
func (t *Tx) LiveGateways(estate uint64) (rows []LiveGateway, err error) {
	return rows, t.live().Where("g.estate_id = ?", estate).Order("g.site").Find(&rows).Error
}

// LiveGatewaysSince lists those of an estate that changed at a time or later.
func (t *Tx) LiveGatewaysSince(estate uint64, since time.Time) (rows []LiveGateway, err error) {
	return rows, t.live().Where("l.estate_id = ? AND l.changed_at >= ?", estate, since).Order("g.site").Find(&rows).Error
}

// LiveGateway returns one with its line.
func (t *Tx) LiveGateway(estate uint64, site string) (row LiveGateway, err error) {
	return row, found(t.live().Where("g.estate_id = ? AND g.site = ?", estate, site).Take(&row))
}

// GatewayState returns what a gateway reported last, as JSON; empty for nothing.
func (t *Tx) GatewayState(estate uint64, site string) (string, error) {
	var row GatewayLine
	err := found(t.db.Select("state").Where("estate_id = ? AND site = ?", estate, site).Take(&row))
	if err != nil || row.State == nil {
		return "", err
	}
	return *row.State, nil
}

// GatewayPulse tells whether anything of an estate's gateways changed: the last change, how
// many there are, and how many lines are up.
func (t *Tx) GatewayPulse(estate uint64) (out struct {
	Changed *time.Time
	Count   int64
	Up      int64
}, err error) {
	return out, t.db.Table("gateway_lines AS l").
		Select("MAX(l.changed_at) AS changed, COUNT(*) AS count, COALESCE(SUM(l.ended_at IS NULL AND s.seen_at >= UTC_TIMESTAMP(3) - INTERVAL ? SECOND), 0) AS up", ServerGone).
		Joins("LEFT JOIN servers AS s ON s.name = l.server").Where("l.estate_id = ?", estate).Take(&out).Error
}

// TakeLine makes a server the holder of a gateway's line, and returns the row with its new
// epoch. Who held it may change nothing of it any more.
func (t *Tx) TakeLine(estate uint64, site, server string) (row GatewayLine, err error) {
	err = t.db.Exec("INSERT INTO gateway_lines (estate_id, site, server, epoch, since, changed_at) VALUES (?, ?, ?, 1, UTC_TIMESTAMP(3), UTC_TIMESTAMP(3)) "+
		"ON DUPLICATE KEY UPDATE server = VALUES(server), epoch = epoch + 1, since = UTC_TIMESTAMP(3), ended_at = NULL, changed_at = UTC_TIMESTAMP(3)", estate, site, server).Error
	if err != nil {
		return row, err
	}
	return row, found(t.db.Omit("state").Where("estate_id = ? AND site = ?", estate, site).Take(&row))
}

// HoldsLine reports whether a server still holds a line in an epoch, locking it.
func (t *Tx) HoldsLine(estate uint64, site, server string, epoch uint64) (bool, error) {
	var n int64
	err := t.db.Raw("SELECT COUNT(*) FROM gateway_lines WHERE estate_id = ? AND site = ? AND server = ? AND epoch = ? FOR UPDATE", estate, site, server, epoch).Scan(&n).Error
	return n > 0, err
}

// SaveLine changes columns of a line that its holder still holds in the row's epoch, and
// reports whether it does. A state alone, of which lists show nothing else than before, is no
// change that pages are told.
func (t *Tx) SaveLine(row *GatewayLine, values map[string]any) (bool, error) {
	for name := range values {
		if name != "state" && name != "state_at" {
			values["changed_at"] = gorm.Expr("UTC_TIMESTAMP(3)")
			break
		}
	}
	r := t.db.Model(&GatewayLine{}).Where("estate_id = ? AND site = ? AND server = ? AND epoch = ?", row.EstateID, row.Site, row.Server, row.Epoch).Updates(values)
	return r.RowsAffected > 0, r.Error
}

// A LineSeen is a row of Lines.
type LineSeen struct {
	EstateID         uint64
	Site             string
	Epoch            uint64
	Wanted           uint64
	Base             uint64
	Stage            int
	Attempt          uint
	Confirmed        uint64
	ConfirmedDigest  string
	ConfirmedAttempt uint
	KeyDigest        []byte
	BarredAt         *time.Time
	PutBack          string
	ProvenSince      *time.Time // a rollout waits for what it reports after this
}

// Lines lists what a server holds, with what its gateways are to be.
func (t *Tx) Lines(server string) (rows []LineSeen, err error) {
	return rows, t.db.Table("gateway_lines AS l").Select("l.estate_id, l.site, l.epoch, g.wanted, g.base, g.stage, g.attempt, g.confirmed, g.confirmed_digest, g.confirmed_attempt, g.key_digest, g.barred_at, g.put_back, IF(r.phase = 'proving', r.since, NULL) AS proven_since").
		Joins("JOIN gateways AS g ON g.estate_id = l.estate_id AND g.site = l.site").
		Joins("LEFT JOIN rollouts AS r ON r.estate_id = l.estate_id AND r.active = 1").
		Where("l.server = ? AND l.ended_at IS NULL", server).Find(&rows).Error
}

// ServerLives says that a server is there; what it held before it began anew has ended.
func (t *Tx) ServerLives(name string, first bool) error {
	if first {
		if err := t.db.Exec("UPDATE gateway_lines SET ended_at = UTC_TIMESTAMP(3), changed_at = UTC_TIMESTAMP(3) WHERE server = ? AND ended_at IS NULL", name).Error; err != nil {
			return err
		}
		if err := t.db.Exec("DELETE FROM servers WHERE seen_at < UTC_TIMESTAMP(3) - INTERVAL 1 DAY").Error; err != nil {
			return err
		}
	}
	return t.db.Exec("INSERT INTO servers (name, seen_at) VALUES (?, UTC_TIMESTAMP(3)) ON DUPLICATE KEY UPDATE seen_at = UTC_TIMESTAMP(3)", name).Error
}

// Doubled says that two machines were found with a gateway's certificate.
func (t *Tx) Doubled(estate uint64, site string) error {
	return t.db.Exec("UPDATE gateway_lines SET doubled_at = UTC_TIMESTAMP(3), changed_at = UTC_TIMESTAMP(3) WHERE estate_id = ? AND site = ?", estate, site).Error
}

// Offering lists gateways of an estate that offered something: of one site, or all.
func (t *Tx) Offering(estate uint64, site string) (rows []Gateway, err error) {
	q := t.db.Where("estate_id = ? AND offers IS NOT NULL", estate)
	if site != "" {
		q = q.Where("site = ?", site)
	}
	return rows, q.Order("site").Find(&rows).Error
}

// LineSince returns the epoch of a gateway's line as it is now; 0 where the gateway is gone.
func (t *Tx) LineSince(estate uint64, site string) (epoch uint64, err error) {
	return epoch, t.db.Model(&GatewayLine{}).Select("COALESCE(MAX(epoch), 0)").Where("estate_id = ? AND site = ?", estate, site).Scan(&epoch).Error
}
