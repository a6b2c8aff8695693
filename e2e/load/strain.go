package main

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"wideknot/e2e/sampled"
)

// strain does what once took gigabytes, and prints how much memory the server
// holds at the worst moment, and when it is quiet again.
func (l *load) strain() error {
	fmt.Printf("%-52s %10s %10s %10s\n", "", "took s", "most MB", "after MB")
	for _, s := range []struct {
		name string
		do   func() error
	}{
		{"nothing", func() error { time.Sleep(5 * time.Second); return nil }},
		{"40 connections that announce 90 MB each", l.announce},
		{"10 archives of all sites, two at once", l.archives},
		{"imports of a document with a million unknown keys", l.unknownKeys},
	} {
		most := make(chan int64)
		stop := make(chan struct{})
		go l.watch(most, stop)
		start := time.Now()
		err := s.do()
		took := time.Since(start)
		close(stop)
		peak := <-most
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		time.Sleep(10 * time.Second)
		after, err := l.Memory()
		if err != nil {
			return err
		}
		fmt.Printf("%-52s %10.1f %10d %10d\n", s.name, took.Seconds(), peak>>20, after>>20)
	}
	return nil
}

func (l *load) watch(most chan<- int64, stop <-chan struct{}) {
	peak := int64(0)
	for {
		if now, err := l.Memory(); err == nil {
			peak = max(peak, now)
		}
		select {
		case <-stop:
			most <- peak
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// announce sends the beginning of large bodies, as a stranger and with a token.
func (l *load) announce() error {
	chunk := bytes.Repeat([]byte("x"), 1<<20)
	var all sync.WaitGroup
	address := strings.TrimPrefix(l.URL, "http://")
	for i := range 40 {
		all.Add(1)
		go func() {
			defer all.Done()
			c, err := net.Dial("tcp", address)
			if err != nil {
				return
			}
			defer c.Close()
			who := ""
			if i%2 == 0 {
				who = "Authorization: Bearer " + l.Token + "\r\n"
			}
			fmt.Fprintf(c, "POST %s/import HTTP/1.1\r\nHost: %s\r\n%sContent-Type: application/json\r\nContent-Length: %d\r\n\r\n", sampled.Draft, address, who, 90<<20)
			_ = c.SetWriteDeadline(time.Now().Add(5 * time.Second))
			for range 90 {
				if _, err := c.Write(chunk); err != nil {
					return // refused
				}
			}
		}()
	}
	all.Wait()
	return nil
}

func (l *load) archives() error {
	const body = `{"keys":false}`
	results := make(chan error, 10)
	slots := make(chan struct{}, 2)
	for range 10 {
		go func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			r, err := http.NewRequest("POST", l.URL+sampled.Draft+"/archive", strings.NewReader(body))
			if err != nil {
				results <- err
				return
			}
			r.Header.Set("Authorization", "Bearer "+l.Token)
			r.Header.Set("Content-Type", "application/json")
			answer, err := http.DefaultClient.Do(r)
			if err != nil {
				results <- err
				return
			}
			defer answer.Body.Close()
			if answer.StatusCode != http.StatusOK {
				results <- fmt.Errorf("an archive: %s", answer.Status)
				return
			}
			_, err = io.Copy(io.Discard, answer.Body)
			results <- err
		}()
	}
	for range 10 {
		if err := <-results; err != nil {
			return err
		}
	}
	return nil
}

func (l *load) unknownKeys() error {
	var document strings.Builder
	document.WriteString("wideknot: 1\nestate: {name: x}\n")
	for i := range 1_000_000 {
		fmt.Fprintf(&document, "k%d: 1\n", i)
	}
	for range 3 {
		_, err := l.Ask("POST", sampled.Draft+"/import/preview", map[string]string{"document": document.String()}, nil)
		if err != nil && !strings.Contains(err.Error(), "413") && !strings.Contains(err.Error(), "422") {
			return err
		}
	}
	return nil
}
