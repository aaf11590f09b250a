package messages

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	xterm "golang.org/x/term"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/words"
)

type sendFlags struct {
	body, file, key, keyFrom, id, contentType string
	lines, ndjson, events, compress           bool
	headers                                   term.PairsValue
	partition, repeat                         int
	rate                                      float64
	after, expire                             time.Duration
	at                                        string
}

var sendVerb = verb{
	Name: "send", Args: "ADDRESS", Summary: "Publish messages: one, many, or a stream",
	Details: "The body is that of -body or -file, or standard input. With -lines each line of the input is a body; with -ndjson each line is a message as browse -json and export print it; with -cloudevents it is CloudEvents as JSON, an array of them or one behind the other.\n\n" +
		"    ferry send coldchain/readings -key box-7 -body '{\"celsius\":8.5}'\n    tail -f readings.log | ferry send coldchain/readings -lines -key-from body.box",
	Define: func(fs *flag.FlagSet) func(*call) error {
		f := sendFlags{headers: term.PairsValue{}}
		fs.StringVar(&f.body, "body", "", "`TEXT` of the body")
		fs.StringVar(&f.file, "file", "", "`FILE` with the body, or with -lines, -ndjson or -cloudevents the messages")
		fs.BoolVar(&f.lines, "lines", false, "each line of the input is a body")
		fs.BoolVar(&f.ndjson, "ndjson", false, "each line of the input is a message as JSON")
		fs.BoolVar(&f.events, "cloudevents", false, "the input is CloudEvents as JSON")
		fs.StringVar(&f.key, "key", "", "`KEY`: messages of one key keep their order")
		fs.StringVar(&f.keyFrom, "key-from", "", "`FIELD` of a JSON body that the key is, such as body.box")
		fs.StringVar(&f.id, "id", "", "`ID` of the message; without it, it gets one")
		fs.StringVar(&f.contentType, "content-type", "", "`TYPE` of the body; without it, application/json when it is JSON, else text/plain")
		fs.Var(f.headers, "header", "a header `NAME=VALUE` beside the body; may be repeated")
		fs.IntVar(&f.partition, "partition", 0, "to partition `N`; without it, the key decides")
		fs.IntVar(&f.repeat, "repeat", 1, "send it `N` times")
		fs.Var(term.RateValue{PerSecond: &f.rate}, "rate", "send at most at this `RATE`, such as 200/s")
		fs.Var(term.DurationValue{D: &f.after}, "after", "to a queue: hand it out after this `DURATION`")
		fs.StringVar(&f.at, "at", "", "to a queue: hand it out from this `TIME` on, such as 2026-11-23T08:00:00Z")
		fs.Var(term.DurationValue{D: &f.expire}, "expire", "to a queue: give it up after this `DURATION`")
		fs.BoolVar(&f.compress, "compress", false, "compress batches with zstd")
		return func(c *call) error { return c.send(&f) }
	},
}

// errInput is an error of a line of the input.
type errInput struct {
	line int
	err  error
}

func (e *errInput) Error() string { return fmt.Sprintf("line %d: %v", e.line, e.err) }

func (c *call) send(f *sendFlags) error {
	a, err := c.OneAddress()
	if err != nil {
		return err
	}
	switch a.Kind() {
	case address.KindPartition:
		f.partition = a.Partition
		a = a.ChannelPart()
	case address.KindChannel:
		if !c.Set["partition"] {
			f.partition = client.AnyPartition
		}
	default:
		return term.WrongUsage("%s is the address of a %s; a channel is expected", a, a.Kind())
	}
	if f.repeat < 1 {
		return term.WrongUsage("-repeat %d: 1 or more is allowed", f.repeat)
	}
	ways := 0
	for _, on := range []bool{c.Set["body"], f.lines, f.ndjson, f.events} {
		if on {
			ways++
		}
	}
	if ways > 1 || c.Set["body"] && f.file != "" {
		return term.WrongUsage("-body, -lines, -ndjson and -cloudevents do not go together, nor -body and -file")
	}
	keyPath, err := parseKeyPath(f.keyFrom)
	if err != nil {
		return err
	}
	input, closeInput, err := c.input(f)
	if err != nil {
		return err
	}
	defer closeInput()
	compression := message.Plain
	if f.compress {
		compression = message.Zstd
	}
	p, err := c.API.NewPublisher(c.Ctx, a, compression)
	if err != nil {
		return err
	}
	p.Waiting = c.waiting
	s := &sender{call: c, flags: f, publisher: p, keyPath: keyPath, started: term.Now()}
	err = s.each(input)
	if flushErr := s.flush(); err == nil {
		err = flushErr
	}
	if err == nil && c.JSON {
		return c.PrintJSON(map[string]any{"accepted": s.accepted, "address": a.String(), "seconds": time.Since(s.started).Seconds()})
	}
	var wrong *errInput
	if err != nil {
		if errors.As(err, &wrong) || s.accepted > 0 {
			err = fmt.Errorf("%w (%s)", err, words.Many(s.accepted, "message before it was kept", "messages before it were kept"))
		}
		return err
	}
	fmt.Fprintf(c.Out, "sent %s to %s\n", words.Many(s.accepted, "message"), a)
	return nil
}

func (c *call) waiting(err error, wait time.Duration) {
	fmt.Fprintf(c.Err, "ferry: waiting %s: %v\n", wait.Round(time.Millisecond), err)
}

func (c *call) input(f *sendFlags) (io.Reader, func() error, error) {
	nothing := func() error { return nil }
	switch {
	case c.Set["body"]:
		return strings.NewReader(f.body), nothing, nil
	case f.file != "" && f.file != "-":
		file, err := os.Open(f.file)
		if err != nil {
			return nil, nil, term.WrongUsage("-file: %w", err)
		}
		return file, file.Close, nil
	}
	if in, ok := c.In.(*os.File); ok && xterm.IsTerminal(int(in.Fd())) && !f.lines && !f.ndjson && !f.events {
		return nil, nil, term.WrongUsage("nothing to send: give -body, -file or standard input")
	}
	return c.In, nothing, nil
}

type sender struct {
	call      *call
	flags     *sendFlags
	publisher *client.Publisher
	keyPath   []string
	gathered  int
	accepted  int
	started   time.Time
	lastFlush time.Time
}

// each makes messages of the input and adds them.
func (s *sender) each(input io.Reader) error {
	f := s.flags
	if f.events {
		return s.eachEvent(input)
	}
	if !f.lines && !f.ndjson {
		body, err := io.ReadAll(input)
		if err != nil {
			return err
		}
		return s.add(&message.Message{Body: body, ID: f.id}, 0)
	}
	r := bufio.NewReaderSize(input, 256<<10)
	for number := 1; ; number++ {
		line, err := r.ReadBytes('\n')
		line = bytes.TrimRight(line, "\r\n")
		if len(line) > 0 {
			m := &message.Message{Body: line}
			if f.ndjson {
				var parseErr error
				if m, parseErr = client.ParseMessage(line); parseErr != nil {
					return &errInput{number, fmt.Errorf("%w; with -lines instead of -ndjson, each line is a body", parseErr)}
				}
			}
			if addErr := s.add(m, number); addErr != nil {
				return addErr
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		// What comes slowly is sent at once.
		if r.Buffered() == 0 || time.Since(s.lastFlush) > 200*time.Millisecond {
			if err := s.flush(); err != nil {
				return err
			}
		}
	}
}

// eachEvent makes messages of CloudEvents: of an array of them, or of one
// behind the other.
func (s *sender) eachEvent(input io.Reader) error {
	in := bufio.NewReaderSize(input, 256<<10)
	array := false
	for {
		b, err := in.ReadByte()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if strings.IndexByte(" \t\r\n", b) < 0 {
			array = b == '['
			in.UnreadByte()
			break
		}
	}
	d := json.NewDecoder(in)
	if array {
		d.Token()
	}
	for number := 1; d.More(); number++ {
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return fmt.Errorf("event %d: %w", number, err)
		}
		m, err := cloudevent.Parse(raw)
		if err != nil {
			return fmt.Errorf("event %d: %w", number, err)
		}
		if err := s.add(m, number); err != nil {
			return err
		}
		if s.gathered >= eventsAtOnce {
			if err := s.flush(); err != nil {
				return err
			}
		}
	}
	return nil
}

// eventsAtOnce is how many events are gathered before they are sent.
const eventsAtOnce = 1000

func (s *sender) add(m *message.Message, line int) error {
	f := s.flags
	if f.key != "" {
		m.Key = f.key
	}
	for _, name := range f.headers.Names() {
		m.Headers = slices.DeleteFunc(m.Headers, func(h message.Header) bool { return h.Name == name })
		m.Headers = append(m.Headers, message.Header{Name: name, Value: f.headers[name]})
	}
	if err := s.setTerms(m); err != nil {
		return err
	}
	if m.ContentType == "" {
		m.ContentType = f.contentType
	}
	if m.ContentType == "" && !f.ndjson && !f.events {
		m.ContentType = "text/plain"
		if json.Valid(m.Body) {
			m.ContentType = "application/json"
		}
	}
	if s.keyPath != nil {
		key, err := keyOf(m.Body, s.keyPath)
		if err != nil {
			return &errInput{max(line, 1), err}
		}
		m.Key = key
	}
	for range f.repeat {
		if err := s.pace(); err != nil {
			return err
		}
		if err := s.publisher.Add(s.call.Ctx, m, f.partition); err != nil {
			return err
		}
		s.gathered++
	}
	return nil
}

// setTerms says when a queue shall hand the message out.
func (s *sender) setTerms(m *message.Message) error {
	f := s.flags
	if f.after == 0 && f.at == "" && f.expire == 0 {
		return nil
	}
	now := term.Now()
	m.Terms = &message.Terms{}
	if f.after > 0 {
		m.Terms.NotBefore = now.Add(f.after)
	}
	if f.expire > 0 {
		m.Terms.Expires = now.Add(f.expire)
	}
	if f.at != "" {
		at, err := time.Parse(time.RFC3339Nano, f.at)
		if err != nil {
			return term.WrongUsage("-at %q: a time such as 2026-11-23T08:00:00Z is expected", f.at)
		}
		m.Terms.NotBefore = at
	}
	return nil
}

// pace keeps to the rate: what is due goes out before the next pause.
func (s *sender) pace() error {
	if s.flags.rate == 0 {
		return nil
	}
	due := s.started.Add(time.Duration(float64(s.accepted+s.gathered) / s.flags.rate * float64(time.Second)))
	wait := time.Until(due)
	if wait <= 0 {
		return nil
	}
	if err := s.flush(); err != nil {
		return err
	}
	select {
	case <-time.After(wait):
		return nil
	case <-s.call.Ctx.Done():
		return s.call.Ctx.Err()
	}
}

func (s *sender) flush() error {
	s.lastFlush = term.Now()
	if s.gathered == 0 {
		return nil
	}
	if err := s.publisher.Flush(s.call.Ctx); err != nil {
		return err
	}
	s.accepted += s.gathered
	s.gathered = 0
	return nil
}

// parseKeyPath reads body.a.b.
func parseKeyPath(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	parts := strings.Split(text, ".")
	if len(parts) < 2 || parts[0] != "body" {
		return nil, term.WrongUsage("-key-from %q: a field of the body is expected, such as body.box", text)
	}
	return parts[1:], nil
}

func keyOf(body []byte, path []string) (string, error) {
	var v any
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	if err := d.Decode(&v); err != nil {
		return "", fmt.Errorf("-key-from: the body is not JSON: %w", err)
	}
	for _, name := range path {
		object, ok := v.(map[string]any)
		if !ok {
			return "", fmt.Errorf("-key-from: the body has no body.%s", strings.Join(path, "."))
		}
		v = object[name]
	}
	switch key := v.(type) {
	case string:
		return key, nil
	case json.Number:
		return key.String(), nil
	}
	return "", fmt.Errorf("-key-from: body.%s is not text or a number", strings.Join(path, "."))
}
