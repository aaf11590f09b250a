// Package outside carries messages to places outside: it posts them, writes them as rows of
// a table, or sends them to another Steady Ferry, and says what came of it. When to send,
// and what an answer leads to, its callers decide.
package outside

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"net"
	"net/http"
	"net/url"
	"sync"
	"sync/atomic"
	"time"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
)

// Config is where a node may send to, and as whom.
type Config struct {
	Networks endpoint.Networks
	Resolver *net.Resolver // of names; nil: that of the system
	Origin   string        // the name by which it asks whether deliveries are wanted
	Agent    string        // what it calls itself
}

// Secrets are those of a place, by their names.
type Secrets map[string]string

// The names of secrets.
const (
	Signing     = "signing"     // by which deliveries are signed
	OldSigning  = "oldSigning"  // the one before: deliveries are signed by both
	Bearer      = "bearer"      // a token of HTTP
	Password    = "password"    // of a database
	Token       = "token"       // of another Steady Ferry
	Certificate = "certificate" // of this side, with its key, as PEM
	Authority   = "authority"   // those who vouch for the other side, as PEM
)

// keys are those by which deliveries are signed.
func (s Secrets) keys() (keys [][]byte) {
	for _, name := range []string{Signing, OldSigning} {
		if key, err := endpoint.Key(s[name]); err == nil {
			keys = append(keys, key)
		}
	}
	return keys
}

// Ends is when the first certificate ends of those that are set: that of this side, and of those
// who vouch for the other one the last, since one that is left is enough; zero: there is none.
func (s Secrets) Ends() (end time.Time) {
	if pair, err := tls.X509KeyPair([]byte(s[Certificate]), []byte(s[Certificate])); err == nil && pair.Leaf != nil {
		end = pair.Leaf.NotAfter
	}
	var vouch time.Time
	for rest := []byte(s[Authority]); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil && c.NotAfter.After(vouch) {
			vouch = c.NotAfter
		}
	}
	return Sooner(end, vouch)
}

// Sooner returns the sooner of two times, of which a zero one is none.
func Sooner(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// tls returns how connections are secured, to a host of a name.
func (s Secrets) tls(host string) (*tls.Config, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host}
	if pem := s[Authority]; pem != "" {
		c.RootCAs = x509.NewCertPool()
		c.RootCAs.AppendCertsFromPEM([]byte(pem))
	}
	if pem := s[Certificate]; pem != "" {
		pair, err := tls.X509KeyPair([]byte(pem), []byte(pem))
		if err != nil {
			return nil, err
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}

// Place is a place outside, as it is set at one time.
type Place struct {
	setting.Endpoint
	Address string // of the endpoint
	Secrets Secrets
}

// Sender sends to a place outside. It may be used by many at once.
type Sender struct {
	// Slots has one for each delivery that may be under way.
	Slots chan struct{}
	Place Place

	config Config
	url    *url.URL
	names  sync.Map // canonical names of headers, by those of messages
	named  atomic.Int64
	keys   [][]byte // by which it signs
	bearer string
	client *http.Client
	broken error   // why nothing can be sent at all
	rows   *rows   // of a table
	copies *copies // of another Steady Ferry
	mailer *mailer // of people

	mu       sync.Mutex // guards the rest
	welcome  bool       // the place has said that it wants deliveries
	every    time.Duration
	nextTurn time.Time // by the rate that it has said
}

// Bounds of what a place outside may cost.
const (
	maxAnswerHeaders = 16 << 10
	drained          = 64 << 10 // of an answer, so that the connection can be used again
	idleConnection   = 90 * time.Second
)

// New returns what sends to a place. What is wrong with how that is set, Err tells.
func New(config Config, place Place) *Sender {
	n := map[string]int{setting.HTTP: max(place.Parallel, 1), setting.InTable: tableConnections, setting.Ferry: copyConnections, setting.Mail: 1}[place.Kind()]
	to := &Sender{Slots: make(chan struct{}, n), Place: place, config: config, keys: place.Secrets.keys(), bearer: place.Secrets[Bearer]}
	u, err := url.Parse(place.URL)
	if err != nil {
		to.broken = err
		return to
	}
	to.url = u
	var secured *tls.Config
	if secured, to.broken = place.Secrets.tls(u.Hostname()); to.broken != nil {
		return to
	}
	if place.Kind() == setting.InTable {
		to.rows, to.broken = newRows(config, &place, u, secured)
		return to
	}
	if place.Kind() == setting.Mail {
		to.mailer, to.broken = newMailer(to, u, secured)
		return to
	}
	transport := &http.Transport{
		Proxy:       nil, // what is dialled is what is checked
		DialContext: config.dial, TLSClientConfig: secured, ForceAttemptHTTP2: true,
		MaxIdleConns: n, MaxIdleConnsPerHost: n, MaxConnsPerHost: n, IdleConnTimeout: idleConnection, TLSHandshakeTimeout: dialTime,
		MaxResponseHeaderBytes: maxAnswerHeaders, DisableCompression: true,
	}
	to.client = &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if place.Kind() == setting.Ferry {
		to.bearer = place.Secrets[Token]
		to.copies, to.broken = newCopies(to, u)
	}
	return to
}

// Close ends what is open to the place.
func (to *Sender) Close() {
	if to.client != nil {
		to.client.CloseIdleConnections()
	}
	if to.rows != nil {
		to.rows.close()
	}
}

// Item is a message on its way to a place outside.
type Item struct {
	message.Message
	Original *message.Message // before what the route has made of it; nil: it is the same
	Offset   int64
	StoredAt time.Time
	At       message.Place // the place of the route before it
	UpTo     message.Place // and behind it
}

// Lane is messages of a route that are delivered one after the other.
type Lane struct {
	Route     string        // id
	Source    string        // address of the channel
	Partition int           // of the source
	Number    int           // from 1
	Recovered uint64        // how often the place was recovered by force, if it says
	After     message.Place // up to which the place must have the lane's messages, if it keeps that
}

// Send delivers messages of a lane, as one delivery. It returns *route.NotBehind when the place has others
// than those that lie before them.
func (to *Sender) Send(ctx context.Context, lane *Lane, items []Item) (*endpoint.Answer, error) {
	switch {
	case to.broken != nil:
		return &endpoint.Answer{At: time.Now(), Error: to.broken.Error(), Means: endpoint.Again}, nil
	case to.rows != nil:
		return to.rows.post(ctx, lane, items)
	case to.copies != nil:
		return to.copies.post(ctx, lane, items)
	case to.mailer != nil:
		return to.mailer.post(ctx, items), nil
	}
	return to.post(ctx, lane, items), nil
}

// limit is how long an answer may take.
func (to *Sender) limit() time.Duration {
	return time.Duration(to.Place.TimeLimitMS) * time.Millisecond
}

// Passed tells a place which keeps what it has that a message will not come.
func (to *Sender) Passed(ctx context.Context, lane *Lane, i *Item) {
	if to.rows != nil {
		_ = to.rows.write(ctx, lane, nil, i.UpTo) // else the next ones find out
	}
}

// Err says why nothing can be sent at all.
func (to *Sender) Err() error { return to.broken }

// Origin tells up to which place the other side has the messages of a lane, if it keeps
// that itself.
func (to *Sender) Origin(ctx context.Context, lane *Lane) (told route.NotBehind, keeps bool, err error) {
	switch {
	case to.broken != nil:
		return told, false, to.broken
	case to.rows != nil:
		told.Origin, err = to.rows.origin(ctx, lane)
		return told, true, err
	case to.copies != nil:
		told, err = to.copies.origin(ctx, lane)
		return told, true, err
	}
	return told, false, nil
}
