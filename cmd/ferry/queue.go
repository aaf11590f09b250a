package main

import (
	"fmt"
	"io"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/words"
)

// describeQueue prints a queue's settings and where its messages are.
func (c *call) describeQueue(out io.Writer, t client.Channel, now time.Time) {
	q := t.Queue
	to := own(c.To(out))
	expired := "become dead letters"
	if q.DropExpired {
		expired = "are dropped"
	}
	if q.Expire == "0s" {
		expired = "messages wait as long as they must"
	} else {
		expired = fmt.Sprintf("messages that wait longer than %s %s", q.Expire, expired)
	}
	order := "any member gets the next message"
	if q.Order == "key" {
		order = "one at a time and in order for each key"
	}
	oldest := ""
	if q.OldestWaiting != nil {
		oldest = fmt.Sprintf(", the oldest for %s", term.Age(q.OldestWaiting, now))
	}
	to.Pairs([][2]string{
		{"queue", t.Address}, {"state", c.Mark(t.State)}, {"description", t.Description}, {"labels", labels(t.Labels)}, {"declared", declaredText(t.Declared)}, {"created", t.CreatedAt.Local().Format("2006-01-02 15:04")},
		{"waiting", term.Count(q.Waiting) + oldest}, {"leased", fmt.Sprintf("%s; %s", term.Count(q.Leased), words.Many(len(q.Members), "member"))}, {"delayed", term.Count(q.Delayed)}, {"taken", takenText(t.Address, q.Taken)},
		{"dead", deadText(t.Address, q.Dead)}, {"discarded", discardedText(t.Address, q)},
		{"so far", fmt.Sprintf("%s accepted, %s, %s a dead letter", term.Count(q.Accepted), words.Many(q.Attempts, "attempt"), words.Many(q.Rejected, "time"))},
		{"in", term.PerSecond(t.Rates.MessagesIn) + ", " + term.SizePerSecond(t.Rates.BytesIn)}, {"out", term.PerSecond(t.Rates.MessagesOut)},
		{"lease", fmt.Sprintf("%s, %s, %s between them", q.Lease, words.Many(q.AttemptLimit, "attempt"), q.Backoff)}, {"order", order}, {"expiry", expired},
		{"dead letters", fmt.Sprintf("are kept for %s; what is discarded can be brought back for %s", q.RetainDead, q.RetainDiscarded)},
		{"replicas", fmt.Sprintf("%d of each partition", t.Replicas)}, {"largest body", term.Size(t.MaxBody)}, {"on disk", term.Size(t.Bytes)},
	})
	fmt.Fprintln(out)
	var rows [][]string
	for _, p := range t.Each {
		if p.Queue != nil {
			rows = append(rows, []string{fmt.Sprint(p.Partition), c.Mark(p.State), p.Leader, replicaText(p), term.Count(p.Queue.Waiting), term.Count(p.Queue.Leased), term.Count(p.Queue.Delayed), term.Count(p.Queue.Dead), term.Size(p.Bytes), term.PerSecond(p.Rates.MessagesIn), term.PerSecond(p.Rates.MessagesOut)})
		}
	}
	c.Table(out, []string{"partition", "state", "leader", "other replicas", "waiting", "leased", "delayed", "dead", "on disk", "in", "out"}, rows, "partition", "waiting", "leased", "delayed", "dead", "on disk", "in", "out")
	if len(q.Members) == 0 {
		return
	}
	fmt.Fprintln(out)
	rows = nil
	for _, m := range q.Members {
		held, left := "–", "–"
		if m.Deadline != nil {
			held, left = term.Age(m.Since, now), m.Deadline.Sub(now).Round(time.Second).String()
		}
		rows = append(rows, []string{m.Member, term.Count(int64(m.Leased)), held, left, term.Age(m.Seen, now) + " ago"})
	}
	c.Table(out, []string{"member", "holds", "oldest for", "next runs out in", "heard of"}, rows, "holds", "oldest for", "next runs out in", "heard of")
}

func takenText(a string, n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%s by routes, which send them on; ferry show %s -chain", term.Count(n), a)
}

func deadText(a string, n int64) string {
	if n == 0 {
		return "0"
	}
	return fmt.Sprintf("%s; why: ferry dead %s", term.Count(n), a)
}

func discardedText(a string, q *client.QueueState) string {
	if q.Discarded == 0 {
		return ""
	}
	return fmt.Sprintf("%s; they can be brought back for %s: ferry dead %s -discarded", term.Count(q.Discarded), q.RetainDiscarded, a)
}

func joinList(texts []string) string { return strings.Join(texts, ", ") }
