package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/go-sql-driver/mysql"
	"gorm.io/gorm/clause"
)

// A Tier is a table of samples: how many seconds a row is of, and how many days it is kept.
type Tier struct {
	Seconds, Days int
	table         string
}

// Tiers are the finest first.
var Tiers = [3]Tier{{10, 3, "samples_10s"}, {60, 21, "samples_1m"}, {900, 90, "samples_15m"}}

// A SampleLayout names what the data of rows is of. Names is JSON.
type SampleLayout struct {
	ID       uint64 `gorm:"primaryKey"`
	EstateID uint64
	Site     string
	Hash     []byte
	Names    string
	MadeAt   time.Time
}

// A Sample is a row: what was measured from a moment on, in seconds since 1970.
type Sample struct {
	Layout uint64
	At     int64
	Data   []byte
}

// rowsAtOnce is how many samples one statement writes.
const rowsAtOnce = 500

// SampleLayouts lists those of a site, the oldest first.
func (t *Tx) SampleLayouts(estate uint64, site string) (rows []SampleLayout, err error) {
	return rows, t.db.Where("estate_id = ? AND site = ?", estate, site).Order("id").Find(&rows).Error
}

// PutSampleLayout keeps a layout, where it is not there yet, and sets its number.
func (t *Tx) PutSampleLayout(row *SampleLayout) error {
	if err := t.db.Clauses(clause.Insert{Modifier: "IGNORE"}).Create(row).Error; err != nil {
		return err
	}
	return t.db.Model(row).Where("estate_id = ? AND site = ? AND hash = ?", row.EstateID, row.Site, row.Hash).Pluck("id", &row.ID).Error
}

// AddSamples keeps rows of a tier; what is there already stays.
func (t *Tx) AddSamples(tier *Tier, rows []Sample) error {
	if len(rows) == 0 {
		return nil
	}
	return t.db.Table(tier.table).Clauses(clause.Insert{Modifier: "IGNORE"}).CreateInBatches(rows, rowsAtOnce).Error
}

// Samples lists rows of some layouts from a moment up to before another, by time.
func (t *Tx) Samples(tier *Tier, layouts []uint64, from, to int64) (rows []Sample, err error) {
	if len(layouts) == 0 {
		return nil, nil
	}
	return rows, t.db.Table(tier.table).Where("layout IN ? AND at >= ? AND at < ?", layouts, from, to).Order("at, layout").Find(&rows).Error
}

// daysAhead is for how many days partitions are made beforehand.
const daysAhead = 3

// Errors of the server: there is such a partition already, or none such any more.
var otherServerWasFirst = []uint16{1517, 1493, 1507, 1508}

// KeepSamples makes room for the samples of the next days, and drops what is too old. It is to be
// called at the start and each hour; which server does it does not matter.
func (s *Store) KeepSamples(ctx context.Context, now time.Time) error {
	today := now.UTC().Truncate(24 * time.Hour)
	for i := range Tiers {
		tier := &Tiers[i]
		var last, oldest int64
		var names []struct {
			Name string
			Ends int64
		}
		err := s.db.WithContext(ctx).Raw("SELECT PARTITION_NAME AS name, CAST(PARTITION_DESCRIPTION AS SIGNED) AS ends FROM information_schema.PARTITIONS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY PARTITION_ORDINAL_POSITION", tier.table).Scan(&names).Error
		if err != nil {
			return fmt.Errorf("the partitions of %s: %w", tier.table, err)
		}
		for _, n := range names {
			last = n.Ends
		}
		for day := max(last, today.AddDate(0, 0, -1).Unix()); day < today.AddDate(0, 0, daysAhead+1).Unix(); day += 24 * 3600 {
			name := "d" + time.Unix(day, 0).UTC().Format("20060102")
			if err := s.partition(ctx, fmt.Sprintf("ALTER TABLE %s ADD PARTITION (PARTITION %s VALUES LESS THAN (%s))", tier.table, name, strconv.FormatInt(day+24*3600, 10))); err != nil {
				return err
			}
		}
		oldest = today.AddDate(0, 0, -tier.Days).Unix()
		for _, n := range names {
			if n.Ends <= oldest {
				if err := s.partition(ctx, fmt.Sprintf("ALTER TABLE %s DROP PARTITION %s", tier.table, quotedName(n.Name))); err != nil {
					return err
				}
			}
		}
	}
	err := s.InTransaction(ctx, func(tx *Tx) error {
		return tx.db.Exec("DELETE FROM sample_layouts WHERE made_at < ? AND NOT EXISTS (SELECT * FROM samples_15m WHERE samples_15m.layout = sample_layouts.id) AND NOT EXISTS (SELECT * FROM samples_1m WHERE samples_1m.layout = sample_layouts.id) AND NOT EXISTS (SELECT * FROM samples_10s WHERE samples_10s.layout = sample_layouts.id)",
			today.AddDate(0, 0, -Tiers[len(Tiers)-1].Days)).Error
	})
	return err
}

// partition carries out a change of partitions that another server may have made meanwhile.
func (s *Store) partition(ctx context.Context, statement string) error {
	err := s.db.WithContext(ctx).Exec(statement).Error
	var my *mysql.MySQLError
	if errors.As(err, &my) && slices.Contains(otherServerWasFirst, my.Number) {
		return nil
	}
	return err
}

// EventsBetween lists the events of an estate in a time, the oldest first, at most so many.
func (t *Tx) EventsBetween(estate uint64, from, to time.Time, most int) (rows []Event, err error) {
	return rows, t.db.Where("estate_id = ? AND at >= ? AND at < ?", estate, from, to).Order("at, id").Limit(most).Find(&rows).Error
}

// ReleasesBetween lists the releases of an estate that were put in force in a time, without their
// documents.
func (t *Tx) ReleasesBetween(estate uint64, from, to time.Time) (rows []Release, err error) {
	return rows, t.db.Model(&Release{}).Omit("document").Where("estate_id = ? AND number > 0 AND at >= ? AND at < ?", estate, from, to).Order("number").Find(&rows).Error
}
