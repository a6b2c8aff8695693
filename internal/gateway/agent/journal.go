package agent

import (
	"bufio"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"wideknot/internal/line"
)

// Kinds of events.
const (
	Started       = "started"
	Applied       = "applied"
	WentBack      = "went-back"
	Confirmed     = "confirmed"
	Refused       = "refused"
	TunnelDead    = "tunnel-dead"
	TunnelBack    = "tunnel-back"
	BothAlive     = "tunnel-carries" // by what both ends say
	PathMTU       = "path-mtu"
	BeyondLimits  = "beyond-limits"
	WithinLimits  = "within-limits"
	Steered       = "steered"
	WayMoved      = "way-moved"
	Disagree      = "ends-disagree"
	Trouble       = "trouble"
	LinksMoved    = "links-changed"
	KeyMoved      = "key-changed" // of a far end
	Benched       = "loaded"
	HeldDown      = "held-down"
	SessionsReset = "sessions-reset"
	LineUp        = "line-up"
	LineDown      = "line-down"
)

// Event is one line of the journal.
type Event = line.Event

// journalRoom is the most that one of the journal's two files holds.
const journalRoom = 1 << 20

// A Journal keeps events on disk, within bounds, over reboots.
type Journal struct {
	mu    sync.Mutex
	path  string
	file  *os.File
	size  int64
	epoch string
	next  uint64
	kept  []Event // that the disk did not take yet
	told  chan struct{}
}

// OpenJournal opens the journal in a folder, or begins one.
func OpenJournal(folder string) (*Journal, error) {
	j := &Journal{path: filepath.Join(folder, "journal"), next: 1, told: make(chan struct{})}
	last, err := j.read(func(Event) bool { return true })
	if err != nil {
		return nil, err
	}
	if len(last) > 0 {
		j.epoch, j.next = last[len(last)-1].Epoch, last[len(last)-1].Sequence+1
	} else {
		room := make([]byte, 8)
		_, _ = rand.Read(room) // never fails
		j.epoch = hex.EncodeToString(room)
	}
	return j, j.open()
}

func (j *Journal) open() (err error) {
	if j.file, err = os.OpenFile(j.path, os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o600); err != nil {
		return fmt.Errorf("the journal: %w", err)
	}
	about, err := j.file.Stat()
	if err != nil {
		return fmt.Errorf("the journal: %w", err)
	}
	j.size = about.Size()
	// A line that a crash cut short is ended, so that the next stands alone.
	if j.size > 0 {
		var end [1]byte
		if _, err := j.file.ReadAt(end[:], j.size-1); err == nil && end[0] != '\n' {
			_, _ = j.file.WriteString("\n")
			j.size++
		}
	}
	return nil
}

// Close ends writing.
func (j *Journal) Close() error { return j.file.Close() }

// Write adds an event. A disk that takes nothing does not stop the gateway: the last
// events are kept in memory until it does.
func (j *Journal) Write(kind, about, format string, values ...any) Event {
	j.mu.Lock()
	defer j.mu.Unlock()
	e := Event{Epoch: j.epoch, Sequence: j.next, At: time.Now().UTC(), Kind: kind, About: about, Words: fmt.Sprintf(format, values...)}
	j.next++
	const most = 1000
	if len(j.kept) >= most {
		j.kept = j.kept[1:]
	}
	j.kept = append(j.kept, e)
	j.flush()
	close(j.told)
	j.told = make(chan struct{})
	return e
}

func (j *Journal) flush() {
	for len(j.kept) > 0 {
		line, err := json.Marshal(&j.kept[0])
		if err != nil {
			return
		}
		line = append(line, '\n')
		if j.size+int64(len(line)) > journalRoom {
			if os.Rename(j.path, j.path+".older") != nil {
				return
			}
			_ = j.file.Close()
			if j.open() != nil {
				return
			}
		}
		if n, err := j.file.Write(line); err != nil {
			_ = j.file.Truncate(j.size) // a part of a line is none
			_ = n
			return
		}
		j.size += int64(len(line))
		j.kept = j.kept[1:]
	}
}

// After returns the events behind a sequence number, at most so many of the first; and
// a channel that closes with the next event.
func (j *Journal) After(sequence uint64, most int) ([]Event, <-chan struct{}, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	out, err := j.read(func(e Event) bool { return e.Sequence > sequence })
	if err != nil {
		return nil, nil, err
	}
	for _, e := range j.kept {
		if e.Sequence > sequence {
			out = append(out, e)
		}
	}
	if most > 0 && len(out) > most {
		out = out[:most]
	}
	return out, j.told, nil
}

// read reads both files. What is no event is passed over.
func (j *Journal) read(want func(Event) bool) (out []Event, err error) {
	for _, path := range []string{j.path + ".older", j.path} {
		file, err := os.Open(path)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("the journal: %w", err)
		}
		lines := bufio.NewScanner(io.LimitReader(file, 2*journalRoom))
		lines.Buffer(nil, 1<<16)
		for lines.Scan() {
			var e Event
			if json.Unmarshal(lines.Bytes(), &e) == nil && e.Sequence > 0 && want(e) {
				out = append(out, e)
			}
		}
		_ = file.Close()
	}
	return out, nil
}
