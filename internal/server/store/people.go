package store

import (
	"time"

	"gorm.io/gorm/clause"
)

// An Account is someone who may sign in: with a password (its argon2id hash),
// or as the subject of an OpenID Connect issuer. A closed one may not.
type Account struct {
	ID            uint64 `gorm:"primaryKey"`
	Email         string
	Name          string
	Administrator bool
	Password      string
	Issuer        string
	Subject       *string
	CreatedAt     time.Time
	ClosedAt      *time.Time
}

// A Session is a signed-in browser. Hash is the SHA-256 of what it holds,
// Former of what it held before the last rotation.
type Session struct {
	ID        uint64 `gorm:"primaryKey"`
	AccountID uint64
	Hash      []byte
	Former    []byte
	RotatedAt time.Time
	CreatedAt time.Time
	SeenAt    time.Time
	ExpiresAt time.Time
	Address   string
	Agent     string
}

// A Link lets its holder set an account's password, once.
type Link struct {
	Hash      []byte `gorm:"primaryKey"`
	AccountID uint64
	ExpiresAt time.Time
}

// A Member is an account's role in an estate.
type Member struct {
	EstateID  uint64 `gorm:"primaryKey;autoIncrement:false"`
	AccountID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Role      string
}

// A Membership is a member with who it is.
type Membership struct {
	Account
	Role string
}

// An OwnEstate is an estate with an account's role in it.
type OwnEstate struct {
	Estate
	Role string
}

// A Token lets a program do what its account may, up to its role.
type Token struct {
	ID        uint64 `gorm:"primaryKey"`
	AccountID uint64
	Name      string
	Hash      []byte
	Role      string
	EstateID  *uint64
	CreatedAt time.Time
	ExpiresAt time.Time
	UsedAt    *time.Time
}

// A Failure counts failed sign-ins under a key.
type Failure struct {
	Key   []byte `gorm:"primaryKey"`
	Count int
	At    time.Time
}

// Accounts lists all accounts.
func (t *Tx) Accounts() ([]Account, error) {
	var rows []Account
	return rows, t.db.Order("email").Find(&rows).Error
}

// Account returns the account of that ID; with lock, nobody else may change it
// until the transaction ends.
func (t *Tx) Account(id uint64, lock bool) (Account, error) {
	var row Account
	return row, found(locked(t.db, lock).Where("id = ?", id).Take(&row))
}

// AccountOfEmail returns the account of that address, compared byte by byte.
func (t *Tx) AccountOfEmail(email string) (Account, error) {
	var row Account
	return row, found(t.db.Where("email = ?", email).Take(&row))
}

// AccountOfSubject returns the account that an issuer knows under that subject.
func (t *Tx) AccountOfSubject(issuer, subject string) (Account, error) {
	var row Account
	return row, found(t.db.Where("issuer = ? AND subject = ?", issuer, subject).Take(&row))
}

// AddAccount stores a new account and gives it its ID.
func (t *Tx) AddAccount(row *Account) error { return t.db.Create(row).Error }

// SaveAccount stores all of an account.
func (t *Tx) SaveAccount(row *Account) error { return t.db.Save(row).Error }

// AddSession stores a new session, and forgets those that expired.
func (t *Tx) AddSession(row *Session) error {
	if err := t.db.Where("expires_at < ?", row.CreatedAt).Delete(&Session{}).Error; err != nil {
		return err
	}
	return t.db.Create(row).Error
}

// Session returns the session of that hash, present or former.
func (t *Tx) Session(hash []byte) (Session, error) {
	var row Session
	err := found(t.db.Where("hash = ?", hash).Take(&row))
	if err == ErrNotFound {
		err = found(t.db.Where("former = ?", hash).Take(&row))
	}
	return row, err
}

// SaveSession stores all of a session if it still has the hash, and reports
// whether it had.
func (t *Tx) SaveSession(row *Session, hash []byte) (bool, error) {
	result := t.db.Model(&Session{}).Where("id = ? AND hash = ?", row.ID, hash).
		Select("hash", "former", "rotated_at", "seen_at").Updates(row)
	return result.RowsAffected == 1, result.Error
}

// Sessions lists the sessions of an account, the latest seen first.
func (t *Tx) Sessions(account uint64) ([]Session, error) {
	var rows []Session
	return rows, t.db.Where("account_id = ?", account).Order("seen_at DESC").Find(&rows).Error
}

// DeleteSessions ends the sessions of an account: one, or with id 0 all.
func (t *Tx) DeleteSessions(account, id uint64) error {
	db := t.db.Where("account_id = ?", account)
	if id != 0 {
		db = db.Where("id = ?", id)
	}
	return db.Delete(&Session{}).Error
}

// SetLink makes a link the only one of its account.
func (t *Tx) SetLink(row *Link) error {
	if err := t.db.Where("account_id = ?", row.AccountID).Delete(&Link{}).Error; err != nil {
		return err
	}
	return t.db.Create(row).Error
}

// Link returns the link of that hash, locked.
func (t *Tx) Link(hash []byte) (Link, error) {
	var row Link
	return row, found(locked(t.db, true).Where("hash = ?", hash).Take(&row))
}

// DeleteLinks removes all links of an account.
func (t *Tx) DeleteLinks(account uint64) error {
	return t.db.Where("account_id = ?", account).Delete(&Link{}).Error
}

// Members lists who may see an estate.
func (t *Tx) Members(estate uint64) ([]Membership, error) {
	var rows []Membership
	return rows, t.db.Table("members").Select("accounts.*, members.role").Joins("JOIN accounts ON accounts.id = members.account_id").
		Where("members.estate_id = ?", estate).Order("accounts.email").Scan(&rows).Error
}

// Member returns an account's role in an estate.
func (t *Tx) Member(estate, account uint64) (Member, error) {
	var row Member
	return row, found(t.db.Where("estate_id = ? AND account_id = ?", estate, account).Take(&row))
}

// SaveMember stores a member, new or changed.
func (t *Tx) SaveMember(row *Member) error {
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error
}

// Administrators lists the accounts of administrators, locked, so that of two
// that demote each other at once one stays.
func (t *Tx) Administrators() ([]Account, error) {
	var rows []Account
	return rows, locked(t.db, true).Where("administrator").Order("id").Find(&rows).Error
}

// EstatesWith lists the IDs of the estates of which an account is a member.
func (t *Tx) EstatesWith(account uint64) ([]uint64, error) {
	var ids []uint64
	return ids, t.db.Model(&Member{}).Where("account_id = ?", account).Order("estate_id").Pluck("estate_id", &ids).Error
}

// DeleteMember removes a member.
func (t *Tx) DeleteMember(estate, account uint64) error {
	return t.db.Where("estate_id = ? AND account_id = ?", estate, account).Delete(&Member{}).Error
}

// EstatesOf lists the estates of which an account is a member, in the order in
// which they were made.
func (t *Tx) EstatesOf(account uint64) ([]OwnEstate, error) {
	var rows []OwnEstate
	return rows, t.db.Table("estates").Select("estates.*, members.role").Joins("JOIN members ON members.estate_id = estates.id").
		Where("members.account_id = ?", account).Order("estates.id").Scan(&rows).Error
}

// EstatesWithoutOwner lists the estates that nobody has the given role in.
func (t *Tx) EstatesWithoutOwner(owner string) ([]Estate, error) {
	var rows []Estate
	return rows, t.db.Where("NOT EXISTS (SELECT 1 FROM members m WHERE m.estate_id = estates.id AND m.role = ?)", owner).Find(&rows).Error
}

// Tokens lists the tokens of an account.
func (t *Tx) Tokens(account uint64) ([]Token, error) {
	var rows []Token
	return rows, t.db.Where("account_id = ?", account).Order("id").Find(&rows).Error
}

// TokenOf returns the token of that hash.
func (t *Tx) TokenOf(hash []byte) (Token, error) {
	var row Token
	return row, found(t.db.Where("hash = ?", hash).Take(&row))
}

// AddToken stores a new token and gives it its ID.
func (t *Tx) AddToken(row *Token) error { return t.db.Create(row).Error }

// TokenUsed notes when a token was used.
func (t *Tx) TokenUsed(id uint64, at time.Time) error {
	return t.db.Model(&Token{}).Where("id = ?", id).Update("used_at", at).Error
}

// DeleteTokens removes all tokens of an account and returns how many there were.
func (t *Tx) DeleteTokens(account uint64) (int, error) {
	result := t.db.Where("account_id = ?", account).Delete(&Token{})
	return int(result.RowsAffected), result.Error
}

// DeleteToken removes a token of an account and reports whether it was there.
func (t *Tx) DeleteToken(account, id uint64) (bool, error) {
	result := t.db.Where("account_id = ? AND id = ?", account, id).Delete(&Token{})
	return result.RowsAffected == 1, result.Error
}

// FailuresUnder returns how often sign-in failed under a key, and when last,
// locked until the transaction ends. A key that is new has no failure yet.
func (t *Tx) FailuresUnder(key []byte, now time.Time) (Failure, error) {
	row := Failure{Key: key, At: now}
	if err := t.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error; err != nil {
		return row, err
	}
	return row, found(locked(t.db, true).Where("`key` = ?", key).Take(&row))
}

// SetFailures stores how often sign-in failed under a key, and when last.
func (t *Tx) SetFailures(row Failure) error {
	return t.db.Model(&Failure{Key: row.Key}).Select("count", "at").Updates(&row).Error
}

// FadeFailures forgets failures of before since, and those that a clock which was
// set back has in its future.
func (t *Tx) FadeFailures(since, until time.Time) error {
	return t.db.Where("at < ? OR at > ?", since, until).Delete(&Failure{}).Error
}
