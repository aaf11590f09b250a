package client_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/address"
)

// service stands for a running ferryd in the examples.
func service(answers map[string]string) (url string, stop func()) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer, ok := answers[r.Method+" "+r.URL.Path]
		if !ok {
			w.Header().Set("Content-Type", client.ProblemType)
			w.WriteHeader(http.StatusNotFound)
			answer = `{"status":404,"detail":"there is no channel coldchain/reading","next":"did you mean coldchain/readings?"}`
		}
		fmt.Fprint(w, answer)
	}))
	return s.URL, s.Close
}

// Messages of the last hour that fulfil a condition, in the order of time.
func ExampleClient_Browse() {
	url, stop := service(map[string]string{"GET /api/v1/channels/coldchain/readings/messages": `{"message":{"address":"coldchain/readings#3:1200","key":"box-7","body":{"celsius":9.5}}}
{"progress":{"lookedAt":80,"total":80,"found":1,"damaged":0}}
`})
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	c, err := client.New(url, "TOKEN")
	if err != nil {
		panic(err)
	}
	readings, _ := address.ParseChannel("coldchain/readings")
	err = c.Browse(ctx, readings, client.Query{From: "ago:1h", Where: "body.celsius > 8"}, func(e client.Event) error {
		switch {
		case e.Message != nil:
			fmt.Println(e.Message.Address, e.Message.Key, string(e.Message.Body))
		case e.Progress != nil:
			fmt.Printf("looked at %d of %d\n", e.Progress.LookedAt, e.Progress.Total)
		}
		return nil
	})
	fmt.Println(err)
	// Output:
	// coldchain/readings#3:1200 box-7 {"celsius":9.5}
	// looked at 80 of 80
	// <nil>
}

// Whatever has no method of its own is called by its path (docs/http.md); an
// error says what was wrong and what to do.
func ExampleClient_Call() {
	url, stop := service(map[string]string{"GET /api/v1/channels/coldchain/readings": `{"address":"coldchain/readings","state":"ready","messages":70858}`})
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	c, err := client.New(url, "TOKEN")
	if err != nil {
		panic(err)
	}
	for _, name := range []string{"coldchain/readings", "coldchain/reading"} {
		a, _ := address.ParseChannel(name)
		var t client.Channel
		err := c.Call(ctx, http.MethodGet, client.ChannelPath(a), nil, nil, &t)
		fmt.Println(t.State, t.Messages, err)
	}
	// Output:
	// ready 70858 <nil>
	//  0 there is no channel coldchain/reading; did you mean coldchain/readings?
}
