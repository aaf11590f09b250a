package messages

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
)

func memberName() string {
	host, _ := os.Hostname()
	return fmt.Sprintf("%s-%d", host, os.Getpid())
}

var leaseVerb = verb{
	Name: "lease", Args: "QUEUE", Summary: "Take messages of a queue, to be settled before their leases run out",
	Details: "Each message comes with its lease: accept it, give it back, or set it aside as a dead letter with ferry settle. What is not settled in time is handed out again.\n\n" +
		"    ferry lease coldchain/inspections -max 8 -wait 15s -json\n    ferry settle coldchain/inspections -accept 0-1200-57-1y2p0ij32e8e7",
	Define: func(fs *flag.FlagSet) func(*call) error {
		most := fs.Int("max", 1, "lease at most `N` messages, 1 to 1000")
		wait, span := new(time.Duration), new(time.Duration)
		fs.Var(term.DurationValue{D: wait}, "wait", "wait up to this `DURATION` for the first one, 30s at most")
		fs.Var(term.DurationValue{D: span}, "for", "hold them for this `DURATION` instead of the queue's own")
		member := fs.String("member", "", "`NAME` of this member; without it, host and process")
		atOnce := fs.Bool("accept-at-once", false, "accept on delivery: nothing has to be settled, but what this member does not finish is lost")
		return func(c *call) error {
			a, err := c.LiveQueue()
			if err != nil {
				return err
			}
			w := client.WorkRequest{Member: term.First(*member, memberName()), Max: *most, Wait: address.FormatDuration(*wait), AcceptOnDelivery: *atOnce}
			if c.Set["for"] {
				w.For = address.FormatDuration(*span)
			}
			if a.Partition >= 0 {
				w.Partition = &a.Partition
			}
			ctx, cancel := c.Short()
			defer cancel()
			answer, err := c.API.Work(ctx, a.QueuePart(), w)
			if err != nil {
				return err
			}
			if *atOnce {
				fmt.Fprintln(c.Err, "ferry: accepted on delivery: what this member does not finish is lost")
			}
			all := make([]client.Delivery, len(answer.Leased))
			for i := range all {
				all[i] = form.DeliveryOf(a, &answer.Leased[i])
			}
			return c.printDeliveries(a, all)
		}
	},
}

func (c *call) printDeliveries(a address.Address, all []client.Delivery) error {
	var rows [][]string
	now := term.Now()
	for _, d := range all {
		if c.JSON {
			if err := c.PrintJSON(d); err != nil {
				return err
			}
			continue
		}
		left := "accepted"
		if d.Deadline != nil {
			left = d.Deadline.Sub(now).Round(time.Second).String()
		}
		rows = append(rows, []string{d.Lease.String(), left, fmt.Sprint(d.Attempt), d.Key, term.OneLine(string(d.Bytes()), 80)})
	}
	switch {
	case c.JSON:
	case len(all) == 0:
		fmt.Fprintf(c.Out, "nothing waits in %s now; -wait 15s waits for it\n", a)
	default:
		c.Table(c.Out, []string{"lease", "runs out in", "attempt", "key", "body"}, rows, "runs out in", "attempt")
	}
	return nil
}

var settleVerb = verb{
	Name: "settle", Args: "QUEUE", Summary: "Accept, give back or set aside leased messages, or hold them longer",
	Details: "    ferry settle coldchain/inspections -accept 0-1200-57-1y2p0ij32e8e7,0-1201-58-2k9x0qm41h0d3\n    ferry settle coldchain/inspections -release 0-1202-59-3b1c8yt52a7f9 -after 10s\n    ferry settle coldchain/inspections -reject 0-1203-60-17d4m2wz90k6s -reason bad-celsius -detail 'celsius is \"46.4 F\"'",
	Define: func(fs *flag.FlagSet) func(*call) error {
		by := map[string]*string{
			client.OutcomeAccept:  fs.String("accept", "", "the messages of these `LEASES` are done"),
			client.OutcomeRelease: fs.String("release", "", "give these `LEASES` back: at once, or -after a time"),
			client.OutcomeReject:  fs.String("reject", "", "set the messages of these `LEASES` aside as dead letters, with -reason"),
			client.OutcomeExtend:  fs.String("extend", "", "hold these `LEASES` longer: the queue's time from now on, or -after"),
		}
		after := fs.String("after", "", "`DURATION` until a released one waits again, or auto for the queue's backoff; of -extend the new time")
		untouched := fs.Bool("untouched", false, "a release that does not count as an attempt")
		reason := fs.String("reason", "", "`CODE` that says why in short")
		detail := fs.String("detail", "", "`TEXT` that says more, such as an error; @FILE reads a file")
		return func(c *call) error {
			a, err := c.LiveQueue()
			if err != nil {
				return err
			}
			text := *detail
			if name, ok := strings.CutPrefix(text, "@"); ok {
				b, err := os.ReadFile(name)
				if err != nil {
					return term.WrongUsage("-detail: %w", err)
				}
				text = string(b)
			}
			var w client.WorkRequest
			for _, outcome := range []string{client.OutcomeAccept, client.OutcomeRelease, client.OutcomeReject, client.OutcomeExtend} {
				for lease := range strings.SplitSeq(*by[outcome], ",") {
					if lease = strings.TrimSpace(lease); lease == "" {
						continue
					}
					id, err := client.ParseLease(lease)
					if err != nil {
						return term.WrongUsage("-%s: %w", outcome, err)
					}
					s := client.Settlement{Lease: id, Outcome: outcome}
					if outcome != client.OutcomeAccept {
						s.Reason, s.Detail = *reason, text
					}
					if outcome == client.OutcomeRelease || outcome == client.OutcomeExtend {
						s.After, s.Untouched = *after, *untouched && outcome == client.OutcomeRelease
					}
					w.Settle = append(w.Settle, s)
				}
			}
			if len(w.Settle) == 0 {
				return term.WrongUsage("leases are expected: -accept, -release, -reject or -extend LEASE[,LEASE…]")
			}
			ctx, cancel := c.Short()
			defer cancel()
			answer, err := c.API.Work(ctx, a.QueuePart(), w)
			if err != nil {
				return err
			}
			return c.printSettled(w.Settle, answer.Settled)
		}
	},
}

func (c *call) printSettled(asked []client.Settlement, settled []client.Settled) error {
	refused := 0
	for i, s := range settled {
		if s.Result != client.ResultDone {
			refused++
		}
		if c.JSON {
			if err := c.PrintJSON(s); err != nil {
				return err
			}
			continue
		}
		switch {
		case s.Result == client.ResultRanOut:
			fmt.Fprintf(c.Err, "ferry: lease %s ran out or was settled before; nothing is changed\n", s.Lease)
		case s.Result == client.ResultUnknown:
			fmt.Fprintf(c.Err, "ferry: there never was a lease %s here; nothing is changed\n", s.Lease)
		case s.Deadline != nil:
			fmt.Fprintf(c.Out, "%s  %s: now until %s\n", s.Lease, asked[i].Outcome, s.Deadline.Local().Format("15:04:05"))
		default:
			fmt.Fprintf(c.Out, "%s  %s: %s\n", s.Lease, asked[i].Outcome, s.State)
		}
	}
	if refused > 0 {
		return fmt.Errorf("%d of %d leases were refused", refused, len(settled))
	}
	return nil
}

var workVerb = verb{
	Name: "work", Args: "QUEUE -- COMMAND [ARGUMENT…]", Summary: "Run a command for each message of a queue",
	Details: "The body comes on the command's standard input; FERRY_ADDRESS, FERRY_KEY, FERRY_ID, FERRY_ATTEMPT, FERRY_CONTENT_TYPE and FERRY_HEADER_NAME are in its environment. Exit status 0 accepts the message, 75 gives it back to be tried again later; any other rejects it, with the last lines of the command's error output as the detail.\n\n" +
		"    ferry work coldchain/inspections -parallel 4 -- ./inspect.sh",
	Define: func(fs *flag.FlagSet) func(*call) error {
		w := &worker{}
		fs.IntVar(&w.parallel, "parallel", 1, "run `N` commands at a time")
		fs.IntVar(&w.limit, "limit", 0, "end after `N` messages; without it, never")
		fs.StringVar(&w.member, "member", "", "`NAME` of this member; without it, host and process")
		fs.BoolVar(&w.once, "once", false, "end when nothing waits any more")
		return func(c *call) error {
			if len(c.Args) < 2 {
				return term.WrongUsage("a queue and a command are expected, such as: ferry work coldchain/inspections -- ./inspect.sh")
			}
			w.call, w.command = c, c.Args[1:]
			c.Args = c.Args[:1]
			a, err := c.LiveQueue()
			if err != nil {
				return err
			}
			w.address, w.member = a.QueuePart(), term.First(w.member, memberName())
			if w.parallel < 1 || w.parallel > 1000 {
				return term.WrongUsage("-parallel %d: 1 to 1000 is allowed", w.parallel)
			}
			return w.run()
		}
	},
}

// worker is one run of ferry work.
type worker struct {
	*call
	address  address.Address
	command  []string
	member   string
	parallel int
	limit    int
	once     bool

	begun, accepted, released, rejected atomic.Int64
}

// retryStatus is the exit status with which a command asks to be tried again
// later: EX_TEMPFAIL of sysexits.h.
const retryStatus = 75

// Detail of a rejection: the end of the command's error output.
const (
	detailLines = 20
	detailBytes = 8 << 10
)

func (w *worker) run() error {
	var wg sync.WaitGroup
	errs := make([]error, w.parallel)
	for i := range w.parallel {
		wg.Go(func() { errs[i] = w.loop() })
	}
	wg.Wait()
	summary := map[string]any{"address": w.address.String(), "accepted": w.accepted.Load(), "released": w.released.Load(), "rejected": w.rejected.Load()}
	if w.JSON {
		if err := w.PrintJSON(summary); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(w.Out, "%s accepted, %s given back, %s rejected\n", term.Count(w.accepted.Load()), term.Count(w.released.Load()), term.Count(w.rejected.Load()))
	}
	for _, err := range errs {
		if err != nil && w.Ctx.Err() == nil {
			return err
		}
	}
	return nil
}

// loop works on one message after another. Each outcome goes out with the
// lease of the next message.
func (w *worker) loop() error {
	var settle []client.Settlement
	for {
		next := client.WorkRequest{Member: w.member, Settle: settle, Max: 1, Wait: "25s"}
		if w.once {
			next.Wait = "0s"
		}
		if w.Ctx.Err() != nil || w.limit > 0 && w.begun.Add(1) > int64(w.limit) {
			next.Max, next.Wait = 0, ""
		}
		if next.Max == 0 && len(settle) == 0 {
			return nil
		}
		answer, err := w.ask(next)
		if err != nil {
			return err
		}
		for _, s := range answer.Settled {
			if s.Result != client.ResultDone {
				fmt.Fprintf(w.Err, "ferry: lease %s ran out before the command was done: the message is handed out again\n", s.Lease)
			}
		}
		settle = nil
		if next.Max == 0 || len(answer.Leased) == 0 && w.once {
			return nil
		}
		for i := range answer.Leased {
			settle = append(settle, w.handle(form.DeliveryOf(w.address, &answer.Leased[i])))
		}
	}
}

// ask settles what is done, also when the end was asked for, and waits for more
// only until then.
func (w *worker) ask(next client.WorkRequest) (*client.Worked, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(w.Ctx), 40*time.Second)
	defer cancel()
	if len(next.Settle) == 0 {
		defer context.AfterFunc(w.Ctx, cancel)()
	}
	return w.API.Work(ctx, w.address, next)
}

// handle runs the command for a message. It holds the lease for as long as
// the command runs.
func (w *worker) handle(d client.Delivery) client.Settlement {
	command := exec.Command(w.command[0], w.command[1:]...)
	command.Stdin = bytes.NewReader(d.Bytes())
	command.Stdout = w.Raw
	var complaint tailBuffer
	command.Stderr = &complaint
	command.Env = append(os.Environ(), "FERRY_ADDRESS="+d.Address, "FERRY_KEY="+d.Key, "FERRY_ID="+d.ID, fmt.Sprintf("FERRY_ATTEMPT=%d", d.Attempt), "FERRY_CONTENT_TYPE="+d.ContentType)
	for name, value := range d.Headers {
		command.Env = append(command.Env, "FERRY_HEADER_"+strings.ToUpper(strings.NewReplacer("-", "_", ".", "_").Replace(name))+"="+value)
	}
	done := make(chan struct{})
	go w.hold(d, done)
	err := command.Run()
	close(done)
	s := client.Settlement{Lease: d.Lease, Outcome: client.OutcomeAccept}
	status := 0
	if err != nil {
		status = -1
		if command.ProcessState != nil {
			status = command.ProcessState.ExitCode()
		}
	}
	switch {
	case err == nil:
		w.accepted.Add(1)
	case status == retryStatus || w.Ctx.Err() != nil:
		s.Outcome, s.After, s.Detail = client.OutcomeRelease, "auto", complaint.end()
		w.released.Add(1)
	default:
		s.Outcome, s.Reason, s.Detail = client.OutcomeReject, fmt.Sprintf("exit %d", status), complaint.end()
		if s.Detail == "" {
			s.Detail = err.Error()
		}
		w.rejected.Add(1)
	}
	return s
}

// hold extends the lease until the command is done.
func (w *worker) hold(d client.Delivery, done chan struct{}) {
	if d.Deadline == nil {
		return
	}
	every := max(time.Until(*d.Deadline)/3, 100*time.Millisecond)
	for {
		select {
		case <-done:
			return
		case <-time.After(every):
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			_, err := w.API.Work(ctx, w.address, client.WorkRequest{Member: w.member, Settle: []client.Settlement{{Lease: d.Lease, Outcome: client.OutcomeExtend}}})
			cancel()
			if err != nil {
				fmt.Fprintf(w.Err, "ferry: lease %s could not be extended: %v\n", d.Lease, err)
			}
		}
	}
}

// tailBuffer keeps the end of what is written to it.
type tailBuffer struct{ b []byte }

func (t *tailBuffer) Write(p []byte) (int, error) {
	t.b = append(t.b, p...)
	if len(t.b) > 2*detailBytes {
		t.b = append([]byte(nil), t.b[len(t.b)-detailBytes:]...)
	}
	return len(p), nil
}

func (t *tailBuffer) end() string {
	lines := strings.Split(strings.TrimSpace(strings.ToValidUTF8(string(t.b[max(0, len(t.b)-detailBytes):]), "�")), "\n")
	return strings.Join(lines[max(0, len(lines)-detailLines):], "\n")
}
