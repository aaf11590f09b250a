package acts

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/timetable"
)

// filesDir is where files of chores lie in the directory of a node.
const filesDir = "chores"

// mostExported bounds the messages of one file.
const mostExported = 1 << 30

// covered returns the partitions of the topics and queues that a chore is of, in the order of
// their addresses.
func (s *Services) covered(c *setting.Chore) (channels int, all []*part.Partition, err error) {
	pattern, err := address.ParsePattern(c.Of)
	if err != nil {
		return 0, nil, problem.New(problem.Invalid, "of is %q: %v", c.Of, err).Field("of")
	}
	for at, ch := range s.Catalog.View().Channels {
		if ch.GroupID.Valid || !pattern.Covers(at) {
			continue
		}
		a, err := address.ParseChannel(at)
		if err != nil {
			return 0, nil, err
		}
		t, err := s.Parts.Channel(a)
		if err != nil {
			continue // it was removed a moment ago
		}
		channels++
		all = append(all, t.Partitions()...)
	}
	if channels == 0 {
		return 0, nil, problem.New(problem.NotFound, "no channel is %s", c.Of).Field("of").Allowed("the address of a channel, or a pattern such as coldchain/*")
	}
	slices.SortFunc(all, func(a, b *part.Partition) int { return strings.Compare(a.Address(), b.Address()) })
	return channels, all, nil
}

// differs tells what a comparison has found.
func differs(v *form.Verified) string {
	var says []string
	if len(v.Differs) > 0 {
		says = append(says, "differs on "+strings.Join(v.Differs, ", "))
	}
	for node, n := range v.Damaged {
		says = append(says, fmt.Sprintf("%s damaged on %s", words.Many(n, "record"), node))
	}
	if v.Problem != "" {
		says = append(says, v.Problem)
	}
	return strings.Join(says, "; ")
}

// exporting writes messages into a file on the node that runs it.
func (s *Services) exporting() timetable.Act {
	source := func(c *setting.Chore) (*part.Channel, address.Address, error) {
		a, err := ofOne(c, address.KindChannel, address.KindDead)
		if err != nil {
			return nil, a, err
		}
		if a.Dead {
			t, err := s.Queues.At(a)
			return t, a, err
		}
		t, err := s.Parts.Channel(a)
		if err == nil && t.IsQueue() {
			a.Dead = true
		}
		return t, a, err
	}
	return timetable.Act{Needs: []string{"of"}, Takes: []string{"cause", "where", "limit", "position", "keep"},
		Check: func(c *setting.Chore) error {
			_, err := ofOne(c, address.KindChannel, address.KindDead)
			return errors.Join(err, checkCause(c))
		},
		Plan: func(_ context.Context, c *setting.Chore) (*timetable.Plan, error) {
			_, a, err := source(c)
			if err != nil {
				return nil, err
			}
			return &timetable.Plan{Effects: []string{fmt.Sprintf("it would write what it finds of %s into a file of NDJSON in %s of the node that runs it, and keep the newest %d", a, filesDir, c.Keep)}}, nil
		},
		Do: func(ctx context.Context, d *timetable.Doing) (bool, error) {
			t, a, err := source(d.Chore())
			if err != nil {
				return false, err
			}
			count := int64(0)
			path, err := s.writeFile(d, ".ndjson", func(w *bufio.Writer) error {
				to := json.NewEncoder(w)
				return s.eachMessage(ctx, t, a, d.Chore(), func(line any) error {
					count++
					return to.Encode(line)
				})
			})
			if err != nil {
				return false, err
			}
			d.Counts(count, 0)
			d.Says("wrote %s of %s to %s on %s", words.Many(int(count), "message"), a, path, s.Parts.Name())
			return true, nil
		}}
}

// eachMessage goes through what an export has, as lines of the form that ferry send takes.
func (s *Services) eachMessage(ctx context.Context, t *part.Channel, a address.Address, c *setting.Chore, f func(line any) error) error {
	if a.Dead {
		return s.Queues.EachItem(ctx, t, deadOnly(c), func(item *queues.Item) error {
			if item.Message == nil {
				return nil // its bytes are gone
			}
			line := item.Form(t)
			line.KeepExact(item.Message.Body)
			return f(line)
		})
	}
	sel := look.Selection{Topic: t, Limit: mostExported, From: address.Position{Kind: address.First}, To: address.Position{Kind: address.End}}
	if c.Limit > 0 {
		sel.Limit = c.Limit
	}
	var err error
	if c.Position != "" {
		if sel.From, err = address.ParsePosition(c.Position); err != nil {
			return err
		}
	}
	if c.Where != "" {
		if sel.Where, err = expr.Compile(c.Where); err != nil {
			return err
		}
	}
	return s.Look.Whole(ctx, sel, func(m *message.Stored) error {
		line := form.MessageOf(t.Address(), m)
		line.KeepExact(m.Body)
		return f(line)
	})
}

// declaring writes what there is as a declaration.
func (s *Services) declaring() timetable.Act {
	files := func(c *setting.Chore) (map[string]string, error) {
		pattern, err := address.ParsePattern(c.Of)
		if err != nil {
			return nil, problem.New(problem.Invalid, "of is %q: %v", c.Of, err).Field("of")
		}
		things := s.Declares.There(pattern.Covers)
		things = slices.DeleteFunc(things, func(t declare.Thing) bool { return t.Itself })
		return declare.Write("kept", things, false), nil
	}
	return timetable.Act{Needs: []string{"of"}, Takes: []string{"keep"},
		Plan: func(_ context.Context, c *setting.Chore) (*timetable.Plan, error) {
			all, err := files(c)
			if err != nil {
				return nil, err
			}
			return &timetable.Plan{Effects: []string{fmt.Sprintf("it would write %s into one in %s of the node that runs it, and keep the newest %d", words.Many(len(all), "file of declarations", "files of declarations"), filesDir, c.Keep)}}, nil
		},
		Do: func(_ context.Context, d *timetable.Doing) (bool, error) {
			all, err := files(d.Chore())
			if err != nil {
				return false, err
			}
			names := []string{}
			for name := range all {
				names = append(names, name)
			}
			slices.Sort(names)
			path, err := s.writeFile(d, ".txt", func(w *bufio.Writer) error {
				for _, name := range names {
					if _, err := fmt.Fprintf(w, "# %s\n%s\n", name, all[name]); err != nil {
						return err
					}
				}
				return nil
			})
			if err != nil {
				return false, err
			}
			d.Says("wrote %s to %s on %s", words.Many(len(names), "file"), path, s.Parts.Name())
			return true, nil
		}}
}

// writeFile writes a file of a run, whole or not at all, and deletes the oldest of the chore
// beyond those that it keeps. It returns where it lies in the directory of the node.
func (s *Services) writeFile(d *timetable.Doing, suffix string, write func(w *bufio.Writer) error) (string, error) {
	name := strings.ReplaceAll(d.Address(), "/", "-")
	dir := filepath.Join(s.Dir, filesDir, name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	file := fmt.Sprintf("%s-%s-%d%s", name, d.Planned().Format("20060102T150405"), d.Number(), suffix)
	f, err := os.CreateTemp(dir, ".begun-*")
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	w := bufio.NewWriterSize(&roomy{f, s.Parts}, 256<<10)
	if err := errors.Join(write(w), w.Flush(), f.Sync(), f.Close()); err != nil {
		return "", err
	}
	if err := os.Rename(f.Name(), filepath.Join(dir, file)); err != nil {
		return "", err
	}
	return filepath.Join(filesDir, name, file), keepNewest(dir, d.Chore().Keep)
}

// roomy writes for as long as the disk has the room that publishing leaves.
type roomy struct {
	*os.File
	parts *part.Registry
}

func (r *roomy) Write(b []byte) (int, error) {
	if r.parts.DiskIsFull() {
		return 0, problem.New(problem.Conflict, "the disk of %s is nearly full: the file was not written", r.parts.Name()).Next("make room there, then start the chore by hand")
	}
	return r.File.Write(b)
}

// keepNewest deletes all files of a directory but the newest, by their names.
func keepNewest(dir string, keep int) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	var names []string
	for _, e := range entries {
		if e.Type().IsRegular() {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	var errs []error
	for _, old := range names[:max(0, len(names)-keep)] {
		errs = append(errs, os.Remove(filepath.Join(dir, old)))
	}
	return errors.Join(errs...)
}
