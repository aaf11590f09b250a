package messages

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/words"
)

var readVerb = verb{
	Name: "read", Args: "GROUP", Summary: "Read a topic as a member of a group",
	Details: "The group is created if it does not exist. Several ferry read share the partitions; one that ends or no longer answers leaves its share to the others.\n\n    ferry read coldchain/readings@compliance\n    ferry read coldchain/readings@compliance -from ago:1h -limit 100 -json",
	Define: func(fs *flag.FlagSet) func(*call) error {
		from := new(string)
		term.PositionFlag(fs, from, "from", "first", "`POSITION` at which the group starts if it does not exist")
		limit := fs.Int("limit", 0, "end after `N` messages; without it, never")
		commit := fs.String("commit", commitEachBatch, "`MODE` of commits: each-batch, on-enter (a line of the standard input commits the batch before it), never")
		timeout := new(time.Duration)
		*timeout = client.MemberTimeout
		fs.Var(term.DurationValue{D: timeout}, "timeout", "`DURATION` after which a member that does not answer is removed")
		member := fs.String("member", "", "`NAME` of this member; without it, host and process")
		perSecondMost := new(float64)
		fs.Var(term.RateValue{PerSecond: perSecondMost}, "rate", "read at most at this `RATE`, such as 200/s")
		quiet := fs.Bool("quiet", false, "print no messages")
		return func(c *call) error {
			a, err := c.OneGroup()
			if err != nil {
				return err
			}
			if !slices.Contains(commitModes, *commit) {
				return term.WrongUsage("-commit is %q; allowed: %s", *commit, strings.Join(commitModes, ", "))
			}
			if *member == "" {
				host, _ := os.Hostname()
				*member = fmt.Sprintf("%s-%d", host, os.Getpid())
			}
			r := &groupRead{call: c, address: a, limit: *limit, commit: *commit, pace: *perSecondMost, quiet: *quiet}
			return r.run(client.ReadOptions{JoinGroup: client.JoinGroup{From: *from, Member: *member}, Timeout: *timeout, Changed: r.shareChanged, Refused: r.refused})
		}
	},
}

// When ferry read commits.
const (
	commitEachBatch = "each-batch"
	commitOnEnter   = "on-enter"
	commitNever     = "never"
)

var commitModes = []string{commitEachBatch, commitOnEnter, commitNever}

// groupRead is one run of ferry read.
type groupRead struct {
	*call
	address address.Address
	limit   int
	commit  string
	pace    float64
	quiet   bool
	count   int
	told    string // the share that was told last
}

// shareChanged tells on the error output what this member reads.
func (r *groupRead) shareChanged(m *client.Membership) {
	var parts []string
	for _, h := range m.Partitions {
		parts = append(parts, fmt.Sprintf("#%d", h.Partition))
	}
	text := "no partition: others read them all"
	if len(parts) > 0 {
		text = strings.Join(parts, " ")
	}
	if m.Paused {
		text = "nothing: the group is paused"
	}
	if text != r.told {
		r.told = text
		fmt.Fprintf(r.Err, "ferry: reading %s\n", text)
	}
}

func (r *groupRead) refused(partition int, err error) {
	fmt.Fprintf(r.Err, "ferry: #%d: not committed, since it was taken from this member; others read it again: %v\n", partition, err)
}

func (r *groupRead) run(o client.ReadOptions) error {
	if r.pace > 0 {
		o.MaxBytes = 16 << 10 // so that a commit comes now and then
	}
	reader, err := r.API.ReadGroup(r.Ctx, r.address, o)
	if err != nil {
		return err
	}
	if reader.Made() {
		fmt.Fprintf(r.Err, "ferry: created group %s starting at %s\n", r.address, o.From)
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := reader.Close(ctx); err != nil {
			fmt.Fprintln(r.Err, "ferry: could not leave the group:", err)
		}
	}()
	lines := r.messageLines()
	entered := r.entered()
	for {
		b, err := reader.Next(r.Ctx)
		if r.Ctx.Err() != nil {
			return term.ErrDone
		}
		if err != nil {
			return err
		}
		if b.Lost > 0 {
			fmt.Fprintf(r.Err, "ferry: #%d: retention took %s unread\n", b.Partition, words.Many(b.Lost, "message"))
		}
		if err := r.print(&b, lines); err != nil {
			return err
		}
		commit := r.commit == commitEachBatch
		if r.commit == commitOnEnter {
			select {
			case <-entered:
				commit = true
			case <-r.Ctx.Done():
				return term.ErrDone
			}
		}
		reader.Done(b, commit)
		if r.limit > 0 && r.count >= r.limit {
			return nil
		}
	}
}

var errLimit = errors.New("limit")

// print prints a batch, at the pace. At the limit, or when it is told to stop,
// the batch ends behind what was printed.
func (r *groupRead) print(b *client.Batch, lines *messageLines) error {
	if b.Delivery != nil {
		r.count++
		switch {
		case r.quiet:
			return nil
		case r.JSON:
			return r.PrintJSON(b.Delivery)
		}
		return lines.print(&b.Delivery.Message)
	}
	left := -1
	if r.limit > 0 {
		left = r.limit - r.count
	}
	printed := 0
	began := term.Now()
	err := b.Messages(func(s *message.Stored) error {
		if left >= 0 && printed == left {
			return errLimit
		}
		if r.pace > 0 {
			due := began.Add(time.Duration(float64(printed) / r.pace * float64(time.Second)))
			select {
			case <-r.Ctx.Done():
				return errLimit
			case <-time.After(time.Until(due)):
			}
		}
		printed++
		if r.quiet {
			return nil
		}
		m := form.MessageOf(r.address.ChannelPart(), s)
		if r.JSON {
			return r.PrintJSON(m)
		}
		return lines.print(&m)
	})
	r.count += printed
	if errors.Is(err, errLimit) {
		b.Next, err = b.From+int64(printed), nil
	}
	return err
}

// entered brings a word for each line of the standard input.
func (r *groupRead) entered() <-chan struct{} {
	ch := make(chan struct{})
	if r.commit != commitOnEnter {
		return ch
	}
	go func() {
		var one [1]byte
		for {
			n, err := r.In.Read(one[:])
			if err != nil {
				return
			}
			if n == 1 && one[0] == '\n' {
				ch <- struct{}{}
			}
		}
	}()
	return ch
}
