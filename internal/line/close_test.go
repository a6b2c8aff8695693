package line

import (
	"context"
	"io"
	"net/http"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// A trial ends the line soon, also while somebody follows the journal over it.
func TestATrialEndsALineThatIsFollowed(t *testing.T) {
	a := newAuthority(t)
	d := &fake{}
	listen, told := calls(t, d, a.shows("tarn"), a)
	client, conn, err := take(t, listen, a.shows("server"), a.pool, "tarn")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if !<-told {
		t.Fatal("the line is not up")
	}
	r, _ := http.NewRequestWithContext(context.Background(), "GET", "https://tarn/restconf/streams/events", nil)
	r.Header.Set("Accept", eventStream)
	client.Timeout = 0
	answer, err := client.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	go func() { _, _ = io.Copy(io.Discard, answer.Body) }()
	c := &gateway.Config{Site: "tarn"}
	text, err := gateway.Write(c)
	if err != nil {
		t.Fatal(err)
	}
	if status, said := ask(t, client, "PUT", "/restconf/ds/ietf-datastores:candidate", `{"ietf-restconf:data":`+string(text)+`}`); status != http.StatusNoContent {
		t.Fatal(said)
	}
	began := time.Now()
	if status, said := ask(t, client, "POST", "/restconf/operations/ietf-netconf:commit", `{"ietf-netconf:input":{"confirmed":[null],"persist":"x"}}`); status != http.StatusNoContent {
		t.Fatal(said)
	}
	if <-told {
		t.Fatal("told up twice")
	}
	if took := time.Since(began); took > 3*time.Second {
		t.Errorf("the line ended after %v", took)
	}
}
