package messages

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

var exportVerb = verb{
	Name: "export", Args: "ADDRESS", Summary: "Write a selection of messages into a file, which ferry send takes back",
	Details: "Of a topic, from and to positions and a condition choose; of a queue or a group, its dead letters, or messages in another -state. The file has a JSON object a line (send it with -ndjson), or CloudEvents as a JSON array (send it with -cloudevents).\n\n" +
		"    ferry export coldchain/readings -from ago:1h -where 'body.celsius > 8' -out warm.ndjson\n    ferry export coldchain/inspections/dead -cause 5f1c02aa -format cloudevents -out dead.json\n    ferry send coldchain/inspections -cloudevents -file dead.json",
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f selectionFlags
		f.define(fs, "first")
		term.PositionFlag(fs, &f.to, "to", "end", "of a topic: `POSITION` to end at")
		fs.IntVar(&f.limit, "limit", 0, "at most `N` messages; without it, all")
		format := fs.String("format", client.FormatNDJSON, "`FORMAT`: ndjson or cloudevents")
		state := fs.String("state", "dead", "of a queue: `STATES`, with commas: waiting, leased, delayed, dead, discarded")
		cause := fs.String("cause", "", "of dead letters: only those of the cause with this `ID`")
		out := fs.String("out", "", "`FILE` to write; without it they are printed")
		return func(c *call) error {
			if c.JSON && c.Set["format"] {
				return term.WrongUsage("-json and -format do not go together")
			}
			a, query, err := c.exported(&f)
			if err != nil {
				return err
			}
			query.Set("format", *format)
			for name, value := range map[string]string{"state": *state, "cause": *cause} {
				if c.Set[name] {
					query.Set(name, value)
				}
			}
			return c.export(a, query, *out)
		}
	},
}

// exported reads what to export. The names of the query are those of the
// selection, whether of a topic or of a queue.
func (c *call) exported(f *selectionFlags) (address.Address, url.Values, error) {
	a, err := c.OneAddress()
	if err != nil {
		return a, nil, err
	}
	query := url.Values{}
	if f.limit > 0 {
		query.Set("limit", fmt.Sprint(f.limit))
	}
	if f.where != "" {
		query.Set("where", f.where)
	}
	if a.Dead || a.Group != "" {
		return a, query, nil
	}
	a, q, err := f.selection(c)
	if err != nil {
		return a, nil, err
	}
	if c.Set["from"] || q.From != f.from {
		query.Set("from", q.From)
	}
	if c.Set["to"] {
		query.Set("to", q.To)
	}
	for _, number := range q.Partitions {
		query.Add("partition", fmt.Sprint(number))
	}
	if f.any {
		query.Set("any", "true")
	}
	return a, query, nil
}

// export copies the file, under another name until it is whole.
func (c *call) export(a address.Address, query url.Values, name string) error {
	response, err := c.API.Do(c.Ctx, client.Request{Method: http.MethodGet, Path: client.QueuePath(a.QueuePart()) + "/export", Query: query})
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := &lineCounter{to: c.Raw}
	if _, ok := c.Terminal(); ok {
		lines.to = c.Out
	}
	if name == "" || name == "-" {
		_, err = io.Copy(lines, response.Body)
		return brokenOff(err)
	}
	file, err := os.Create(name + ".part")
	if err != nil {
		return term.WrongUsage("-out: %w", err)
	}
	defer os.Remove(file.Name())
	lines.to = file
	if _, err := io.Copy(lines, response.Body); err != nil {
		file.Close()
		return brokenOff(err)
	}
	if err := file.Close(); err != nil {
		return err
	}
	if err := os.Rename(file.Name(), name); err != nil {
		return err
	}
	flagName, total := "-ndjson", lines.lines
	if query.Get("format") == client.FormatCloudEvents {
		// The array's brackets are on lines of their own.
		flagName, total = "-cloudevents", max(lines.lines-2, 0)
	}
	fmt.Fprintf(c.Err, "%s in %s; to be sent again with: ferry send ADDRESS %s -file %s\n", words.Many(total, "message is", "messages are"), name, flagName, name)
	return nil
}

func brokenOff(err error) error {
	if err != nil {
		return fmt.Errorf("the export broke off, and is not whole: %w", err)
	}
	return nil
}

// lineCounter counts the lines that pass.
type lineCounter struct {
	to    io.Writer
	lines int
}

func (l *lineCounter) Write(p []byte) (int, error) {
	l.lines += bytes.Count(p, []byte{'\n'})
	return l.to.Write(p)
}
