package setting

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/problem"
)

// The kinds of endpoints, by what their addresses begin with.
const (
	HTTP    = "http"  // an address to which messages are posted
	InTable = "table" // of a PostgreSQL database
	Ferry   = "ferry" // a channel of another Steady Ferry
	Mail    = "mail"  // of people, by SMTP; for notices alone
)

// AnEndpoint is what a place outside is called, and the kind of one that may be of any.
const AnEndpoint = "endpoint"

// schemes are the kinds of endpoints by the schemes of their addresses; tls says that
// nobody on the way can read.
var schemes = map[string]struct {
	kind string
	tls  bool
}{"https": {HTTP, true}, "http": {HTTP, false}, "postgresql": {InTable, true}, "ferry+https": {Ferry, true}, "ferry+http": {Ferry, false}, "smtp": {Mail, true}, "smtps": {Mail, true}}

// Schemes lists what addresses of endpoints may begin with.
const Schemes = "https, http, postgresql, ferry+https, ferry+http, smtps, smtp"

// Formats of what is posted.
const (
	Binary     = "binary"     // a CloudEvent: the body, and the rest in headers
	Structured = "structured" // a CloudEvent as JSON
	Batched    = "batched"    // a list of those
	Raw        = "raw"        // the body alone
)

// Endpoint is how a place outside is set, as the records keep it.
type Endpoint struct {
	URL         string            `json:"url"`
	Description string            `json:"description"`
	Paused      bool              `json:"paused"`
	Parallel    int               `json:"parallel"`
	TimeLimitMS int64             `json:"timeLimitMs"`
	BackoffMin  int64             `json:"backoffMinMs"`
	BackoffMax  int64             `json:"backoffMaxMs"`
	Attempts    int               `json:"attempts"`
	GiveUpMS    int64             `json:"giveUpMs"` // 0: never
	Format      string            `json:"format,omitempty"`
	Headers     map[string]string `json:"headers,omitempty"`
	Handshake   bool              `json:"handshake,omitempty"`
	Table       string            `json:"table,omitempty"`
	Columns     map[string]string `json:"columns,omitempty"` // what each has of a message
	KeyColumns  []string          `json:"keyColumns,omitempty"`
	MailFrom    string            `json:"mailFrom,omitempty"`
	MailTo      []string          `json:"mailTo,omitempty"`
	MailUser    string            `json:"mailUser,omitempty"`
	Notice      string            `json:"notice,omitempty"` // what notices say, as CEL
	// Lanes is how many partitions the channel of another Steady Ferry has, as it said.
	Lanes int `json:"lanes,omitempty"`
}

// Kind is what the endpoint is, by its address.
func (e *Endpoint) Kind() string {
	scheme, _, _ := strings.Cut(e.URL, ":")
	return schemes[scheme].kind
}

var (
	ofHTTP   = []string{HTTP, AnEndpoint}
	ofTables = []string{InTable, AnEndpoint}
	ofMail   = []string{Mail, AnEndpoint}
	ofTold   = []string{HTTP, Mail, AnEndpoint}
	// What is delivered message by message.
	oneByOne = []string{HTTP, InTable, AnEndpoint}
)

// Endpoints is what can be set on places outside.
var Endpoints = Table[Endpoint]{
	row(Setting[Endpoint]{Name: "url", Label: "Address", Form: URL(), Help: "of an endpoint: the `URL` to which messages go",
		Effects: urlEffects, Careful: func(was, is *Endpoint) bool { return was.URL != is.URL },
		Refuse: func(was, is *Endpoint, name string) *problem.Problem {
			if was.Kind() == is.Kind() {
				return nil
			}
			return problem.New(problem.Conflict, "%s is a %s endpoint and cannot become a %s endpoint: what is on its way has the form of the first", name, was.Kind(), is.Kind()).Next("make another endpoint, and another route to it")
		}}, func(e *Endpoint) *string { return &e.URL }),
	row(Setting[Endpoint]{Name: "format", Kinds: ofHTTP, Label: "Sends", Default: Binary, Form: Choice(Binary, Structured, Batched, Raw), Help: "of an endpoint: `FORMAT` of what is posted: a CloudEvent in one of its three modes, or the raw body"}, func(e *Endpoint) *string { return &e.Format }),
	{Name: "headers", AsFlag: "header", Kinds: ofHTTP, Label: "Headers", Form: Headers(), Help: "of an endpoint: `NAME=VALUE` that is sent along; an empty value takes it away; may be repeated",
		Get: func(e *Endpoint) any { return e.Headers },
		Put: func(e *Endpoint, value any) { e.Headers = Merge(e.Headers, value.(map[string]string)) }},
	row(Setting[Endpoint]{Name: "handshake", Kinds: ofHTTP, Label: "Ask before the first delivery", Default: "true", Form: Switch(),
		Help: "of an endpoint: ask it whether it wants deliveries, before the first one, as the web hooks of CloudEvents do"}, func(e *Endpoint) *bool { return &e.Handshake }),
	row(Setting[Endpoint]{Name: "table", Kinds: ofTables, Label: "Table", Form: Columnar(), Help: "of an endpoint: the table that gets a row for each message: its `NAME` behind that of its schema, as clinic.readings"}, func(e *Endpoint) *string { return &e.Table }),
	{Name: "columns", AsFlag: "column", Kinds: ofTables, Label: "Columns", Form: Columns(), Help: "of an endpoint: `NAME=VALUE` of a column, and what it gets of a message; may be repeated",
		Get: func(e *Endpoint) any { return e.Columns },
		Put: func(e *Endpoint, value any) { e.Columns = Merge(e.Columns, value.(map[string]string)) }},
	row(Setting[Endpoint]{Name: "keyColumns", AsFlag: "key-columns", Kinds: ofTables, Label: "Columns that name a row", Form: Names(8), Help: "of an endpoint: `NAMES` of columns, with commas, by which a row replaces the one that is there; none: each message is a row more"}, func(e *Endpoint) *[]string { return &e.KeyColumns }),
	row(Setting[Endpoint]{Name: "mailFrom", Kinds: ofMail, Label: "Mail is from", Form: Mailbox(), Help: "of an endpoint: the `ADDRESS` of mail that notices come from"}, func(e *Endpoint) *string { return &e.MailFrom }),
	row(Setting[Endpoint]{Name: "mailTo", Kinds: ofMail, Label: "Mail goes to", Form: Mailboxes(20), Help: "of an endpoint: `ADDRESSES` of mail that notices go to, with commas"}, func(e *Endpoint) *[]string { return &e.MailTo }),
	row(Setting[Endpoint]{Name: "mailUser", Kinds: ofMail, Label: "User of the mail server", Form: Sentence(200), Help: "of an endpoint: the `NAME` by which the mail server knows this one; its password is a secret"}, func(e *Endpoint) *string { return &e.MailUser }),
	row(Setting[Endpoint]{Name: "notice", Kinds: ofTold, Label: "Notices say", Form: written(Sentence(2000), "CEL over notice, that gives a text or an object; none: the notice itself"), Help: "of an endpoint: what notices say there, as `TEXT` of CEL over notice"}, func(e *Endpoint) *string { return &e.Notice }),
	row(Setting[Endpoint]{Name: "parallel", Kinds: ofHTTP, Label: "At once", Default: "8", Form: Number(1, 64, ""), Help: "of an endpoint: `N` deliveries at once at most; those of one key are one after the other"}, func(e *Endpoint) *int { return &e.Parallel }),
	timed(Setting[Endpoint]{Name: "timeLimit", Label: "An answer may take", Default: "20s", Form: Duration(100*time.Millisecond, 5*time.Minute, ""), Help: "of an endpoint: `DURATION` that an answer may take"}, time.Millisecond, func(e *Endpoint) *int64 { return &e.TimeLimitMS }),
	{Name: "backoff", Label: "Delay between attempts", Default: "1s..10m", Form: Durations(10*time.Millisecond, day),
		Help: "of an endpoint: `DURATION..DURATION`, the shortest and the longest delay after a failure, doubled each time",
		Get:  func(e *Endpoint) any { return Span{millis(e.BackoffMin), millis(e.BackoffMax)} },
		Put: func(e *Endpoint, value any) {
			span := value.(Span)
			e.BackoffMin, e.BackoffMax = span.Least.Milliseconds(), span.Most.Milliseconds()
		}},
	row(Setting[Endpoint]{Name: "attempts", Kinds: ofHTTP, Label: "Attempts", Default: "9", Form: Number(1, 1000, ""), Help: "of an endpoint: a message that fails `N` times while others do not becomes a dead letter"}, func(e *Endpoint) *int { return &e.Attempts }),
	timed(Setting[Endpoint]{Name: "giveUpAfter", Kinds: oneByOne, Label: "Give up after", Default: "3d", Form: Duration(time.Second, 365*day, "never"), Help: "of an endpoint: a message that could not be delivered for this `DURATION` becomes a dead letter"}, time.Millisecond, func(e *Endpoint) *int64 { return &e.GiveUpMS }),
	row(Setting[Endpoint]{Name: "paused", Label: "Paused", Form: Switch(), Help: "nothing is delivered; messages wait where they are",
		Effects: func(_, is *Endpoint) []string {
			if is.Paused {
				return []string{"nothing is delivered until the pause ends; messages wait in the channels that routes read"}
			}
			return []string{"delivery goes on"}
		}}, func(e *Endpoint) *bool { return &e.Paused }),
	row(Setting[Endpoint]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(e *Endpoint) *string { return &e.Description }),
}

func urlEffects(was, is *Endpoint) []string {
	return []string{fmt.Sprintf("what waits goes to %s instead of %s from now on", is.URL, was.URL)}
}

const maxURL = 2000

// URL is the address of a place outside. Values are string.
func URL() Form {
	f := Form{Name: "url", Allowed: "an address that begins with one of " + Schemes, Show: same}
	f.Parse = func(name, text string) (any, error) {
		u, err := url.Parse(text)
		switch {
		case err != nil || len(text) > maxURL:
			return nil, wrong(name, f.Allowed, "%s is no address", name)
		case schemes[u.Scheme].kind == "":
			return nil, wrong(name, f.Allowed, "%s begins with %q", name, u.Scheme)
		case u.Hostname() == "":
			return nil, wrong(name, f.Allowed, "%s has no host", name)
		case u.Fragment != "" || strings.Contains(text, "#"):
			return nil, wrong(name, f.Allowed, "%s has a # in it", name)
		}
		if _, has := u.User.Password(); has || u.User != nil && schemes[u.Scheme].kind != InTable {
			return nil, wrong(name, "an address without it; secrets have flags of their own", "%s has a name or password in it", name)
		}
		if q := u.Query(); schemes[u.Scheme].kind == InTable && (len(q) > 1 || len(q) == 1 && q.Get("sslmode") != "disable" && q.Get("sslmode") != "verify-full") {
			return nil, wrong(name, "sslmode=verify-full, which it is without it, or sslmode=disable", "%s has parameters of a database: %s", name, u.RawQuery)
		}
		return text, nil
	}
	f.Read = fromText(&f)
	return f
}

var (
	headerName = regexp.MustCompile("^[a-z0-9!#$%&'*+.^_`|~-]{1,100}$")
	columnName = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,62}$`)
	tableName  = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,62}\.[a-z_][a-z0-9_]{0,62}$`)
	sourceForm = regexp.MustCompile(`^(key|id|time|body|partition|offset|source|header\..{1,200}|(/.*){1,20})$`)
)

// ownHeaders are those that deliveries have of themselves.
var ownHeaders = []string{"authorization", "connection", "content-length", "content-type", "expect", "host", "keep-alive", "te", "trailer", "transfer-encoding", "upgrade", "webhook-id", "webhook-signature", "webhook-timestamp"}

// pairs is names with values, of which a change says only what changes.
func pairs(form, allowed string, most int, check func(name, key, value string) error) Form {
	f := Form{Name: form, Allowed: allowed}
	all := func(name string, values map[string]string) (any, error) {
		if len(values) > most {
			return nil, wrong(name, fmt.Sprintf("up to %d", most), "%d %s", len(values), name)
		}
		for key, value := range values {
			if value == "" {
				continue // it is taken away
			}
			if err := check(name, key, value); err != nil {
				return nil, err
			}
		}
		return values, nil
	}
	f.Read = func(name string, value any) (any, error) {
		given, ok := value.(map[string]any)
		values := make(map[string]string, len(given))
		for key, one := range given {
			if values[key], ok = one.(string); !ok {
				break
			}
		}
		if !ok {
			return nil, wrong(name, allowed, "%s is %s", name, shown(value))
		}
		return all(name, values)
	}
	f.Parse = func(name, text string) (any, error) {
		key, value, ok := strings.Cut(text, "=")
		if !ok {
			return nil, wrong(name, allowed, "%s %q", name, text)
		}
		return all(name, map[string]string{strings.TrimSpace(key): strings.TrimSpace(value)})
	}
	f.Show = Labels().Show
	return f
}

// Headers is headers of HTTP that are sent along. Values are map[string]string.
func Headers() Form {
	return pairs("headers", "NAME=VALUE of up to 20 headers, in small letters", 20, func(name, key, value string) error {
		switch {
		case slices.Contains(ownHeaders, key) || strings.HasPrefix(key, "ce-") || strings.HasPrefix(key, "ferry-"):
			return wrong(name, "others; the secret for authorization is given apart", "%s has %q, which deliveries have of themselves", name, key)
		case !headerName.MatchString(key):
			return wrong(name, "a-z 0-9 and -", "header %q", key)
		case len(value) > 2000 || strings.ContainsAny(value, "\r\n\x00"):
			return wrong(name, "one line of up to 2000 characters", "the value of header %q", key)
		}
		return nil
	})
}

// SourceForms says what a column may have of a message.
const SourceForms = "a JSON Pointer into the body such as /celsius, key, id, time, body, partition, offset, source, header.NAME"

// Columns is what the columns of a table have of a message. Values are
// map[string]string.
func Columns() Form {
	return pairs("columns", "a column, and "+SourceForms, 100, func(name, key, value string) error {
		switch {
		case !columnName.MatchString(key):
			return wrong(name, "a-z 0-9 _", "column %q", key)
		case !sourceForm.MatchString(value):
			return wrong(name, SourceForms, "column %s has %q", key, value)
		}
		return nil
	})
}

// Columnar is the name of a table with that of its schema. Values are string.
func Columnar() Form {
	f := Form{Name: "table", Allowed: "a schema, a dot and a table, of a-z 0-9 _", Show: same}
	f.Parse = func(name, text string) (any, error) {
		if text != "" && !tableName.MatchString(text) {
			return nil, wrong(name, f.Allowed, "%s is %q", name, text)
		}
		return text, nil
	}
	f.Read = fromText(&f)
	return f
}
