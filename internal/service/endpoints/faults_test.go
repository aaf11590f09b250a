package endpoints_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/node/nodetest"
)

// speak serves connections that do as a function says, and nothing that HTTP asks for.
func speak(t *testing.T, talk func(c net.Conn)) (url string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				talk(c)
			}()
		}
	}()
	return "http://" + l.Addr().String() + "/"
}

// says answers each request with a text, after having read its head.
func says(text string) func(c net.Conn) {
	return func(c net.Conn) {
		_, _ = c.Read(make([]byte, 4096))
		_, _ = io.WriteString(c, text)
	}
}

// What a place does wrong is named, takes no longer than the limit, and means what it
// should for the message.
func TestWhatPlacesDoWrong(t *testing.T) {
	n := nodetest.Open(t)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed.Close()
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	const head = "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n"
	for name, c := range map[string]struct {
		url   string
		means endpoint.Verdict
		says  string
		after time.Duration
	}{
		"hangs":                 {speak(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }), endpoint.Again, "no answer within 600ms", 0},
		"drips its head":        {speak(t, func(c net.Conn) { says("")(c); drip(head + "\r\n")(c) }), endpoint.Again, "no answer within 600ms", 0},
		"drips its body":        {speak(t, func(c net.Conn) { says(head + "Content-Length: 100000\r\n\r\n")(c); drip(strings.Repeat("x", 1000))(c) }), endpoint.Done, "200 OK: xxx", 0},
		"says too much":         {speak(t, func(c net.Conn) { says(head + "\r\n")(c); _, _ = io.Copy(c, zeros{}) }), endpoint.Done, "200 OK", 0},
		"has a huge head":       {speak(t, says(head+strings.Repeat("X-More: "+strings.Repeat("y", 1000)+"\r\n", 100)+"\r\n")), endpoint.Again, "exceeded", 0},
		"resets":                {speak(t, func(c net.Conn) { _, _ = c.Read(make([]byte, 10)); _ = c.(*net.TCPConn).SetLinger(0) }), endpoint.Again, "reset", 0},
		"closes":                {speak(t, func(c net.Conn) { _, _ = c.Read(make([]byte, 4096)) }), endpoint.Again, "EOF", 0},
		"speaks something else": {speak(t, says("220 mail.example ESMTP\r\n")), endpoint.Again, "malformed HTTP", 0},
		"is not there":          {"http://" + closed.Addr().String() + "/", endpoint.Again, "connection refused", 0},
		"is of nobody we trust": {secure.URL, endpoint.Again, "certificate signed by unknown authority", 0},
		"speaks no TLS":         {strings.Replace(speak(t, says("hello\r\n")), "http://", "https://", 1), endpoint.Again, "tls", 0},
		"sends elsewhere":       {speak(t, says("HTTP/1.1 302 Found\r\nLocation: http://169.254.169.254/latest\r\nContent-Length: 0\r\n\r\n")), endpoint.Again, `redirects are not followed; it sends to "http://169.254.169.254/latest"`, 0},
		"has too much to do":    {speak(t, says("HTTP/1.1 429 Too Many Requests\r\nRetry-After: 30\r\nContent-Length: 0\r\n\r\n")), endpoint.Again, "429 Too Many Requests", 30 * time.Second},
		"is closed":             {speak(t, says("HTTP/1.1 503 Service Unavailable\r\nRetry-After: Fri, 27 Nov 2126 08:00:00 GMT\r\nContent-Length: 5\r\n\r\nlunch")), endpoint.Again, "503 Service Unavailable: lunch", 24 * time.Hour},
		"is gone":               {speak(t, says("HTTP/1.1 410 Gone\r\nContent-Length: 0\r\n\r\n")), endpoint.Stop, "410 Gone", 0},
		"does not like it":      {speak(t, says("HTTP/1.1 400 Bad Request\r\nContent-Length: 3000\r\n\r\n"+strings.Repeat("why", 1000))), endpoint.Refused, "400 Bad Request: why", 0},
		"is in our own network": {"http://10.20.30.40/", endpoint.Again, "10.20.30.40 is a private address, and this node sends to loopback only", 0},
		"is the machine's own":  {"http://169.254.169.254/", endpoint.Again, "link-local", 0},
	} {
		t.Run(name, func(t *testing.T) {
			a := at(t, "coldchain/"+strings.ToLower(strings.NewReplacer(" ", "-", "'", "").Replace(name)))
			limit := 10 * time.Second
			if strings.Contains(c.says, "600ms") || strings.HasPrefix(name, "drips") {
				limit = 600 * time.Millisecond
			}
			_, err := n.Endpoints.New(accesstest.Owner(t), "owner", a, setting.Change{"url": c.url, "handshake": false, "timeLimit": limit}, nil)
			require.NoError(t, err)
			begun := time.Now()
			answer, err := n.Endpoints.Try(accesstest.Owner(t), "owner", a)
			require.NoError(t, err)
			assert.Contains(t, answer.Says(), c.says)
			assert.Equal(t, c.means.String(), answer.Means.String())
			assert.InDelta(t, c.after, answer.After, float64(time.Second))
			assert.Less(t, time.Since(begun), limit+2*time.Second)
			assert.LessOrEqual(t, len(answer.Body), endpoint.MaxAnswer)
		})
	}
}

// drip writes a text a byte at a time.
func drip(text string) func(c net.Conn) {
	return func(c net.Conn) {
		for i := range len(text) {
			if _, err := io.WriteString(c, text[i:i+1]); err != nil {
				return
			}
			time.Sleep(30 * time.Millisecond)
		}
	}
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { return len(b), nil }

// names answers questions for the address of any name, as it says at the time.
func names(t *testing.T, say func() [4]byte) *net.Resolver {
	t.Helper()
	l, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		b := make([]byte, 1500)
		for {
			size, from, err := l.ReadFrom(b)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(b[:size]) != nil || len(m.Questions) == 0 {
				continue
			}
			m.Response = true
			if q := m.Questions[0]; q.Type == dnsmessage.TypeA {
				m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 0}, Body: &dnsmessage.AResource{A: say()}}}
			}
			if packed, err := m.Pack(); err == nil {
				_, _ = l.WriteTo(packed, from)
			}
		}
	}()
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "udp", l.LocalAddr().String())
	}}
}

// A name that was good once is checked again at the next connection.
func TestANameThatComesToLeadElsewhere(t *testing.T) {
	var forbidden atomic.Bool
	config := nodetest.Outside(t)
	config.Resolver = names(t, func() [4]byte {
		if forbidden.Load() {
			return [4]byte{10, 0, 0, 1}
		}
		return [4]byte{127, 0, 0, 1}
	})
	n := nodetest.OpenTo(t, config)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Header().Set("Connection", "close") }))
	defer server.Close()
	_, port, err := net.SplitHostPort(server.Listener.Addr().String())
	require.NoError(t, err)
	topic, _ := outside(t, n, "http://hook.northlight.example:"+port+"/", setting.Change{"handshake": false})
	n.Publish(topic, 0, "one")
	e, err := n.Endpoints.Of(accesstest.Owner(t), at(t, "coldchain/clinic-hook"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return n.Endpoints.Status(accesstest.Owner(t), e.ID).Delivered == 1 }, waitTime, tick)
	forbidden.Store(true)
	n.Publish(topic, 0, "two")
	require.Eventually(t, func() bool {
		return strings.Contains(n.Endpoints.Status(accesstest.Owner(t), e.ID).Health.Last.Error, "10.0.0.1 is a private address")
	}, waitTime, tick)
	forbidden.Store(false)
	require.Eventually(t, func() bool { return n.Endpoints.Status(accesstest.Owner(t), e.ID).Delivered == 2 }, waitTime, tick)
}

// pemOf makes a certificate of a name by an authority, or, without one, an authority.
func pemOf(t *testing.T, name string, by *tls.Certificate, lasts ...time.Duration) (pair tls.Certificate, text string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	last := time.Hour
	if len(lasts) > 0 {
		last = lasts[0]
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(last),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: by == nil, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}
	parent, signer := c, any(key)
	if by != nil {
		parent, err = x509.ParseCertificate(by.Certificate[0])
		require.NoError(t, err)
		signer = by.PrivateKey
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
	require.NoError(t, err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: der}))
	require.NoError(t, pem.Encode(&b, &pem.Block{Type: "PRIVATE KEY", Bytes: keyDER}))
	pair, err = tls.X509KeyPair(b.Bytes(), b.Bytes())
	require.NoError(t, err)
	return pair, b.String()
}

// With an authority, a certificate of its own and a token, deliveries go over HTTP/2.
func TestCertificatesTokensAndHTTP2(t *testing.T) {
	n := nodetest.Open(t)
	ca, authority := pemOf(t, "authority", nil)
	place, _ := pemOf(t, "place", &ca, 20*time.Minute)
	_, own := pemOf(t, "node-a", &ca, 40*time.Minute)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(authority))
	var seen atomic.Value
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen.Store(fmt.Sprint(r.ProtoMajor, " ", r.TLS.PeerCertificates[0].Subject.CommonName, " ", r.Header.Get("Authorization")))
	}))
	server.EnableHTTP2 = true
	server.TLS = &tls.Config{Certificates: []tls.Certificate{place}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: pool}
	server.StartTLS()
	defer server.Close()
	a := at(t, "coldchain/secure")
	settings := setting.Change{"url": server.URL, "handshake": false}
	_, err := n.Endpoints.New(accesstest.Owner(t), "owner", a, settings, map[string]string{"certificate": "nothing"})
	assert.ErrorContains(t, err, "a certificate and its key as PEM")
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", a, settings, map[string]string{"authority": authority, "bearer": "let-me-in"})
	require.NoError(t, err)
	answer, err := n.Endpoints.Try(accesstest.Owner(t), "owner", a)
	require.NoError(t, err)
	assert.Equal(t, endpoint.Again, answer.Means, "without a certificate it does not let in")
	_, err = n.Endpoints.Set(accesstest.Owner(t), "owner", a, nil, map[string]string{"certificate": own}, false)
	require.NoError(t, err)
	answer, err = n.Endpoints.Try(accesstest.Owner(t), "owner", a)
	require.NoError(t, err)
	assert.Equal(t, endpoint.Done, answer.Means, answer.Says())
	assert.Equal(t, "2 node-a Bearer let-me-in", seen.Load())
	e, err := n.Endpoints.Of(accesstest.Owner(t), a)
	require.NoError(t, err)
	assert.NotContains(t, string(e.Secrets), "let-me-in")
	left := func(h endpoint.Health) time.Duration {
		return time.Until(n.Endpoints.CertificateEnds(e, h)).Round(10 * time.Minute)
	}
	assert.Equal(t, 40*time.Minute, left(endpoint.Health{}), "its own ends before those who vouch for the place")
	require.Eventually(t, func() bool { return left(n.Endpoints.Healths()[e.ID]) == 20*time.Minute }, waitTime, tick, "the place has shown one that ends sooner")
	entries, err := logbook.Entries(accesstest.Owner(t), n.Catalog, logbook.Asked{Limit: 10})
	require.NoError(t, err)
	for _, entry := range entries {
		assert.NotContains(t, string(entry.After)+string(entry.Before), "let-me-in")
	}
}

// A place that does not say that it wants deliveries gets none.
func TestTheQuestionBeforeTheFirstDelivery(t *testing.T) {
	n := nodetest.Open(t)
	var posts, asked atomic.Int64
	var allows atomic.Value
	allows.Store("elsewhere.example")
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodOptions {
			asked.Add(1)
			w.Header().Set("WebHook-Allowed-Origin", allows.Load().(string))
			w.Header().Set("WebHook-Allowed-Rate", "600")
			return
		}
		posts.Add(1)
	}))
	defer server.Close()
	topic, _ := outside(t, n, server.URL, nil)
	n.Publish(topic, 0, "one", "two", "three", "four", "five", "six")
	require.Eventually(t, func() bool { return asked.Load() > 2 }, waitTime, tick)
	assert.Zero(t, posts.Load())
	assert.Zero(t, dead(t, n), "they wait")
	begun := time.Now() // before it is allowed: a slow machine must not see a shorter time
	allows.Store("localhost")
	require.Eventually(t, func() bool { return posts.Load() == 6 }, waitTime, tick)
	assert.Greater(t, time.Since(begun), 300*time.Millisecond, "at most ten a second")
}

// Each form of a delivery has the whole message.
func TestForms(t *testing.T) {
	n := nodetest.Open(t)
	for _, form := range []string{setting.Binary, setting.Structured, setting.Batched, setting.Raw} {
		rc := receive(t, nil)
		hook, topicName := at(t, "coldchain/hook-"+form), "coldchain/recalls-"+form
		_, err := n.Endpoints.New(accesstest.Owner(t), "owner", hook, setting.Change{"url": rc.URL, "format": form, "headers": map[string]string{"x-depot": "north"}}, map[string]string{"signing": "northlight-clinics-know-this"})
		require.NoError(t, err)
		topic := n.Channel(setting.Topic, topicName, nil)
		_, err = n.Parts.PublishMessages(accesstest.Owner(t), topic, 0, []*message.Message{{ID: "r-1", Key: "box 7", ContentType: "application/json", Body: []byte(`{"n":1}`), Headers: []message.Header{{Name: "firmware", Value: "4.3 é"}}}})
		require.NoError(t, err)
		_, err = n.Routes.New(accesstest.Owner(t), "owner", at(t, topicName+"@hook"), address.Position{Kind: address.First}, setting.Change{"to": hook.String()})
		require.NoError(t, err)
		require.Eventually(t, func() bool { return len(rc.taken()) == 1 }, waitTime, tick)
		got := rc.got[0]
		assert.Equal(t, "north", got.header.Get("X-Depot"))
		assert.NotEmpty(t, got.header.Get("Webhook-Signature"))
		switch form {
		case setting.Binary:
			assert.Equal(t, []string{"r-1", "box%207", "4.3%20%C3%A9", "application/json", `{"n":1}`}, []string{got.header.Get("Ce-Id"), got.header.Get("Ce-Partitionkey"), got.header.Get("Ferry-Header-Firmware"), got.header.Get("Content-Type"), got.body})
		case setting.Raw:
			assert.Equal(t, []string{"r-1", "box%207", `{"n":1}`, ""}, []string{got.header.Get("Ferry-Id"), got.header.Get("Ferry-Key"), got.body, got.header.Get("Ce-Id")})
		case setting.Structured:
			assert.Equal(t, "application/cloudevents+json; charset=utf-8", got.header.Get("Content-Type"))
			assert.Contains(t, got.body, `"data":{"n":1}`)
		case setting.Batched:
			assert.Equal(t, "application/cloudevents-batch+json; charset=utf-8", got.header.Get("Content-Type"))
			var all []map[string]any
			require.NoError(t, json.Unmarshal([]byte(got.body), &all))
			assert.Equal(t, "r-1", all[0]["id"])
		}
	}
}

// A place that says that it is gone is paused, and what waits goes on when it is not.
func TestAPlaceThatIsGoneIsPaused(t *testing.T) {
	n := nodetest.Open(t)
	var gone atomic.Bool
	gone.Store(true)
	rc := receive(t, func(*http.Request, string) int {
		if gone.Load() {
			return http.StatusGone
		}
		return http.StatusOK
	})
	topic, _ := outside(t, n, rc.URL, nil)
	n.Publish(topic, 0, "one", "two")
	a := at(t, "coldchain/clinic-hook")
	require.Eventually(t, func() bool {
		e, err := n.Endpoints.Of(accesstest.Owner(t), a)
		return err == nil && e.Paused
	}, waitTime, tick)
	gone.Store(false)
	_, err := n.Endpoints.Set(accesstest.Owner(t), "owner", a, setting.Change{"paused": false}, nil, false)
	require.NoError(t, err)
	rc.arrive(t, "one", "two")
}

// A message that fails while others do not becomes a dead letter when its attempts are
// used up; one that a place refuses does not take others of its batch with it.
func TestAttemptsAreCountedForTheMessageAlone(t *testing.T) {
	n := nodetest.Open(t)
	rc := receive(t, func(_ *http.Request, body string) int {
		if strings.Contains(body, "poison") {
			return http.StatusInternalServerError
		}
		return http.StatusOK
	})
	topic, _ := outside(t, n, rc.URL, setting.Change{"attempts": 3})
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
				_, _ = n.Parts.PublishMessages(context.Background(), topic, 0, []*message.Message{{Key: fmt.Sprint("box-", i), Body: []byte("good")}})
			}
		}
	}()
	n.PublishKey(topic, "box-poison", "poison")
	n.PublishKey(topic, "box-poison", "after it")
	require.Eventually(t, func() bool { return dead(t, n) == 1 }, waitTime, tick)
	close(stop)
	<-done
	require.Eventually(t, func() bool { return strings.Contains(strings.Join(rc.taken(), ","), "after it") }, waitTime, tick)
	tries := 0
	rc.mu.Lock()
	for _, d := range rc.got {
		if d.body == "poison" {
			tries++
		}
	}
	rc.mu.Unlock()
	assert.GreaterOrEqual(t, tries, 3)
}

// Of a batch that fails until its attempts are used up, only the message at fault becomes a
// dead letter, as long as others are taken.
func TestOfABatchThatFailsOnlyThePoisonBecomesADeadLetter(t *testing.T) {
	n := nodetest.Open(t)
	rc := receive(t, func(_ *http.Request, body string) int {
		if strings.Contains(body, "poison") {
			return http.StatusInternalServerError
		}
		return http.StatusOK
	})
	topic, _ := outside(t, n, rc.URL, setting.Change{"format": setting.Batched, "attempts": 3})
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			case <-time.After(2 * time.Millisecond):
				_, _ = n.Parts.PublishMessages(context.Background(), topic, 0, []*message.Message{{Key: fmt.Sprint("box-", i), Body: []byte("other")}})
			}
		}
	}()
	var all []*message.Message
	for i := range 20 {
		body := fmt.Sprintf("innocent %02d", i)
		if i == 13 {
			body = "poison"
		}
		all = append(all, &message.Message{Key: "box", ContentType: "text/plain", Body: []byte(body)})
	}
	_, err := n.Parts.PublishMessages(accesstest.Owner(t), topic, 1, all)
	require.NoError(t, err)
	assert.Eventually(t, func() bool {
		return dead(t, n) == 1 && strings.Count(strings.Join(rc.taken(), ""), "innocent") == 19
	}, waitTime, tick)
	close(stop)
	<-done
	assert.EqualValues(t, 1, dead(t, n))
}

func TestOfABatchOnlyTheRefusedBecomeDeadLetters(t *testing.T) {
	n := nodetest.Open(t)
	rc := receive(t, func(_ *http.Request, body string) int {
		if strings.Contains(body, `"bad`) {
			return http.StatusBadRequest
		}
		return http.StatusOK
	})
	topic, _ := outside(t, n, rc.URL, setting.Change{"format": setting.Batched, "parallel": 1})
	var all []*message.Message
	for i := range 60 {
		body := fmt.Sprintf(`"good %d"`, i)
		if i == 7 || i == 41 {
			body = fmt.Sprintf(`"bad %d"`, i)
		}
		all = append(all, &message.Message{ContentType: "application/json", Body: []byte(body)})
	}
	_, err := n.Parts.PublishMessages(accesstest.Owner(t), topic, 0, all)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return dead(t, n) == 2 && strings.Count(strings.Join(rc.taken(), ""), "good") == 58 }, waitTime, tick)
}
