package agent

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Numbers go on over restarts without gaps, files stay within bounds, and a line that
// was cut short harms no other.
func TestJournal(t *testing.T) {
	folder := t.TempDir()
	j, err := OpenJournal(folder)
	if err != nil {
		t.Fatal(err)
	}
	first := j.Write(Started, "", "one")
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	file, err := os.OpenFile(filepath.Join(folder, "journal"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	_, _ = file.WriteString(`{"epoch":"cut sho`)
	_ = file.Close()
	if j, err = OpenJournal(folder); err != nil {
		t.Fatal(err)
	}
	_, more, err := j.After(0, 0)
	if err != nil {
		t.Fatal(err)
	}
	second := j.Write(Started, "", "two")
	select {
	case <-more:
	default:
		t.Error("who waits is not told")
	}
	if second.Epoch != first.Epoch || first.Sequence != 1 || second.Sequence != 2 {
		t.Errorf("%+v, then %+v", first, second)
	}
	if events, _, err := j.After(1, 0); err != nil || len(events) != 1 || events[0].Words != "two" {
		t.Errorf("behind the first: %+v, %v", events, err)
	}

	long := strings.Repeat("w", 1000)
	for range 5000 {
		j.Write(Trouble, "", "%s", long)
	}
	size := int64(0)
	for _, name := range []string{"journal", "journal.older"} {
		about, err := os.Stat(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		size += about.Size()
	}
	events, _, err := j.After(0, 0)
	if err != nil || size > 2*journalRoom {
		t.Fatalf("%d bytes, %v", size, err)
	}
	for i := range events {
		if events[i].Sequence != events[0].Sequence+uint64(i) {
			t.Fatalf("a gap before %d", events[i].Sequence)
		}
	}
	if last := events[len(events)-1].Sequence; last != 5002 || len(events) < 900 {
		t.Errorf("%d events up to %d", len(events), last)
	}
	if few, _, err := j.After(4000, 3); err != nil || len(few) != 3 {
		t.Errorf("the first three: %+v, %v", few, err)
	}
}

// A disk that takes nothing: events wait in memory, and are written when it does.
func TestJournalOnAFullDisk(t *testing.T) {
	if _, err := os.Stat("/dev/full"); err != nil {
		t.Skip("SKIPPED, NOT PASSED: there is no /dev/full here")
	}
	j, err := OpenJournal(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	good := j.file
	if j.file, err = os.OpenFile("/dev/full", os.O_WRONLY, 0); err != nil {
		t.Fatal(err)
	}
	j.Write(Trouble, "", "one")
	_ = j.file.Close()
	j.file = good
	j.Write(Trouble, "", "two")
	if events, _, err := j.After(0, 0); err != nil || len(events) != 2 || len(j.kept) != 0 {
		t.Errorf("%+v, %v, %d in memory", events, err, len(j.kept))
	}
}
