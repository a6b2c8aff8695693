package store

import "time"

// An Ask is what a gateway is asked by a server that need not hold its line. Input and Output
// are JSON of the operation.
type Ask struct {
	ID         uint64 `gorm:"primaryKey"`
	EstateID   uint64
	Site       string
	About      string // what for
	Operation  string
	Input      string
	MadeAt     time.Time
	UntilAt    time.Time
	AnsweredAt *time.Time
	Output     *string
	Words      string // why there is no output
}

// Operations of asks.
const (
	AskEcho     = "echo"
	AskNewKey   = "new-key"
	AskRunning  = "running" // what it runs
	AskLook     = "look"
	AskBench    = "bench"
	AskHold     = "hold"
	AskSessions = "sessions"
)

// mostAsks is how many a server takes at once.
const mostAsks = 256

// AddAsks keeps what gateways are asked, and lets go of what nobody waits for any more. Times
// are the database's; until is in seconds from now.
func (t *Tx) AddAsks(rows []Ask, until int) error {
	if err := t.db.Exec("DELETE FROM asks WHERE until_at < UTC_TIMESTAMP(3) - INTERVAL 1 HOUR").Error; err != nil {
		return err
	}
	now, err := t.Now()
	if err != nil || len(rows) == 0 {
		return err
	}
	for i := range rows {
		rows[i].MadeAt, rows[i].UntilAt = now, now.Add(time.Duration(until)*time.Second)
	}
	return t.db.CreateInBatches(rows, 200).Error
}

// OpenAsks lists what gateways whose lines a server holds are asked and have not answered.
func (t *Tx) OpenAsks(server string) (rows []Ask, err error) {
	return rows, t.db.Table("asks AS a").Select("a.*").
		Joins("JOIN gateway_lines AS l ON l.estate_id = a.estate_id AND l.site = a.site").
		Where("l.server = ? AND l.ended_at IS NULL AND a.answered_at IS NULL AND a.until_at > UTC_TIMESTAMP(3)", server).
		Order("a.id").Limit(mostAsks).Find(&rows).Error
}

// AnswerAsk keeps an answer, or why there is none.
func (t *Tx) AnswerAsk(id uint64, output, words string) error {
	values := map[string]any{"words": words, "answered_at": time.Now().UTC()}
	if output != "" {
		values["output"] = output
	}
	return t.db.Model(&Ask{}).Where("id = ? AND answered_at IS NULL", id).Updates(values).Error
}

// AsksAbout lists what was asked about something.
func (t *Tx) AsksAbout(estate uint64, about string) (rows []Ask, err error) {
	return rows, t.db.Where("estate_id = ? AND about = ?", estate, about).Order("site").Find(&rows).Error
}

// DropAsks forgets what was asked about something.
func (t *Tx) DropAsks(estate uint64, about string) error {
	return t.db.Where("estate_id = ? AND about = ?", estate, about).Delete(&Ask{}).Error
}
