package main

import (
	"fmt"
	"io"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

// describeQueue prints a queue's settings and where its messages are.
func (c *call) describeQueue(out io.Writer, t client.Topic, now time.Time) {
	q := t.Queue
	to := *c
	to.out = out
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
		oldest = fmt.Sprintf(", the oldest for %s", age(q.OldestWaiting, now))
	}
	to.pairs([][2]string{
		{"queue", t.Address}, {"state", c.mark(t.State)}, {"description", t.Description}, {"labels", labels(t.Labels)}, {"made", t.CreatedAt.Local().Format("2006-01-02 15:04")},
		{"waiting", count(q.Waiting) + oldest}, {"leased", fmt.Sprintf("%s; %s", count(q.Leased), words.Many(len(q.Members), "member"))}, {"delayed", count(q.Delayed)},
		{"dead", deadText(t.Address, q.Dead)}, {"discarded", discardedText(t.Address, q)},
		{"so far", fmt.Sprintf("%s accepted, %s, %s a dead letter", count(q.Accepted), words.Many(q.Attempts, "attempt"), words.Many(q.Rejected, "time"))},
		{"in", perSecond(t.Rates.MessagesIn) + ", " + sizePerSecond(t.Rates.BytesIn)}, {"leased out", perSecond(t.Rates.MessagesOut)},
		{"lease", fmt.Sprintf("%s, %s, %s between them", q.Lease, words.Many(q.AttemptLimit, "attempt"), q.Backoff)}, {"order", order}, {"expiry", expired},
		{"dead letters", fmt.Sprintf("are kept for %s; what is discarded can be taken back for %s", q.RetainDead, q.WayBack)},
		{"replicas", fmt.Sprintf("%d of each partition", t.Replicas)}, {"largest body", size(t.MaxBody)}, {"on disk", size(t.Bytes)},
	})
	fmt.Fprintln(out)
	var rows [][]string
	for _, p := range t.Each {
		if p.Queue != nil {
			rows = append(rows, []string{fmt.Sprint(p.Partition), c.mark(p.State), p.Leader, replicaText(p), count(p.Queue.Waiting), count(p.Queue.Leased), count(p.Queue.Delayed), count(p.Queue.Dead), size(p.Bytes), perSecond(p.Rates.MessagesIn), perSecond(p.Rates.MessagesOut)})
		}
	}
	c.table(out, []string{"partition", "state", "leader", "other replicas", "waiting", "leased", "delayed", "dead", "on disk", "in", "leased out"}, rows, "partition", "waiting", "leased", "delayed", "dead", "on disk", "in", "leased out")
	if len(q.Members) == 0 {
		return
	}
	fmt.Fprintln(out)
	rows = nil
	for _, m := range q.Members {
		held, left := "–", "–"
		if m.Due != nil {
			held, left = age(m.Since, now), m.Due.Sub(now).Round(time.Second).String()
		}
		rows = append(rows, []string{m.Member, count(int64(m.Leased)), held, left, age(m.Seen, now) + " ago"})
	}
	c.table(out, []string{"member", "holds", "oldest for", "next runs out in", "heard of"}, rows, "holds", "oldest for", "next runs out in", "heard of")
}

func deadText(a string, n int64) string {
	if n == 0 {
		return "0"
	}
	return fmt.Sprintf("%s; why: ferry dead %s", count(n), a)
}

func discardedText(a string, q *client.QueueState) string {
	if q.Discarded == 0 {
		return ""
	}
	return fmt.Sprintf("%s; they can be taken back for %s: ferry dead %s -discarded", count(q.Discarded), q.WayBack, a)
}

// oneQueue reads the only address: a queue, a group, or the dead letters of
// either. partition and message are cut off.
func (c *call) oneQueue() (address.Address, error) {
	a, err := c.oneAddress()
	if err != nil {
		return a, err
	}
	switch a.Kind() {
	case address.KindSpace:
		return a, wrongUsage("%s is the address of a space; a queue is expected", a)
	case address.KindDead:
		a.Dead = false
	}
	return a, nil
}

// liveQueue is a queue whose messages are leased. Its dead letters are not
// meant: they go back to the queue, or elsewhere, before anybody works on them.
func (c *call) liveQueue() (address.Address, error) {
	a, err := c.oneQueue()
	if err == nil && strings.HasSuffix(c.args[0], "/dead") {
		return a, wrongUsage("%s are dead letters, which are not leased: ferry dead shows them, ferry replay %s -to QUEUE sends them to a queue, where a program can lease them", c.args[0], c.args[0])
	}
	return a, err
}

func joinList(texts []string) string { return strings.Join(texts, ", ") }
