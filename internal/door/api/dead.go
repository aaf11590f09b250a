package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// deadRoutes are the paths of dead letters below that of their queue.
func (s *Server) deadRoutes(ch *gin.RouterGroup, search gin.HandlerFunc) {
	ch.GET("/dead", s.dead)
	ch.GET("/items", search, s.items)
	ch.GET("/items/:partition/:offset", s.item)
	ch.POST("/actions", search, s.act)
}

// Charts of causes over time.
const (
	defaultDeadSpan = time.Hour
	maxDeadSpan     = 90 * 24 * time.Hour
	deadBars        = 40
)

func (s *Server) dead(c *gin.Context) {
	t, ok := s.queueOf(c)
	if !ok {
		return
	}
	span := defaultDeadSpan
	if text := c.Query("span"); text != "" {
		d, err := address.ParseDuration(text)
		if err != nil || d < time.Minute || d > maxDeadSpan {
			writeProblem(c, invalid("span", fmt.Sprintf("span is %q", text), "1m to 90d"))
			return
		}
		span = d
	}
	dead, err := s.node.Queues.Dead(c, t, span, deadBars)
	if refuse(c, err) {
		return
	}
	a := t.Address()
	out := form.DeadLetters{Total: dead.Total, Since: dead.Since.UTC(), Causes: []form.DeadCause{}}
	a.Dead = true
	out.Address = a.String()
	for _, d := range dead.Causes {
		row := form.DeadCause{Cause: queues.CauseID(d.ID), Reason: d.Reason, Pattern: queue.Shown(d.Pattern), Count: d.Count, Share: d.Share, FirstSeen: d.First, LastSeen: d.Last, Bars: d.Bars}
		if d.Sample != nil {
			m := itemJSON(t, d.Sample)
			row.Sample = &m
		}
		out.Causes = append(out.Causes, row)
	}
	c.JSON(http.StatusOK, out)
}

func microsTime(us int64) *time.Time {
	if us == 0 {
		return nil
	}
	at := time.UnixMicro(us).UTC()
	return &at
}

// itemJSON describes a message of a queue.
func itemJSON(t *part.Channel, item *queues.Item) form.QueueMessage {
	i := &item.Info
	out := form.QueueMessage{State: i.State.String(), Attempts: i.Attempts, Member: i.Member, Reason: i.Reason, From: i.From, Edited: i.Edited > 0, History: []form.MessageEvent{}, Gone: item.Message == nil}
	if item.Message != nil {
		out.Message = form.MessageOf(t.Address(), item.Message)
	} else {
		out.Message = form.Message{Offset: i.Offset, Headers: map[string]string{}}
	}
	if item.Original != nil {
		original := form.MessageOf(t.Address(), item.Original)
		out.Original = &original
	}
	switch i.State {
	case queue.Leased, queue.Delayed:
		out.Due = microsTime(i.Due)
	case queue.Dead:
		out.DeadAt = microsTime(i.Due)
	}
	if i.Cause != 0 {
		out.Cause = queues.CauseID(i.Cause)
		out.Detail = item.Detail()
		out.Field = fieldIn(out.Detail, out.Body)
	}
	for n, e := range i.History {
		out.History = append(out.History, form.MessageEvent{Event: e.Kind.String(), At: time.UnixMicro(e.At).UTC(), Began: microsTime(e.Began), Who: e.Who, Reason: e.Reason, Detail: item.Details[n]})
		if e.Kind == queue.Returned {
			out.Returns++
		}
	}
	return out
}

var (
	namedField  = regexp.MustCompile(`(?i)\b(?:field|property|member)\s*[:=]?\s*["'\x60]?([A-Za-z_][A-Za-z0-9_]*)`)
	pointerWord = regexp.MustCompile(`(?:^|[\s:("'])((?:/[A-Za-z0-9_.~-]+)+)`)
	plainWord   = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)
)

// smallWords are names of fields that are words of any sentence too.
var smallWords = []string{"a", "an", "as", "at", "by", "for", "from", "in", "is", "it", "no", "not", "of", "on", "or", "the", "to", "was", "with"}

// fieldIn finds the field of a JSON body that a detail names: one that it calls
// a field, whether it is there or not, a JSON Pointer to one that is, or in the
// first line the name of one that is.
func fieldIn(detail string, body json.RawMessage) string {
	var fields map[string]any
	if json.Unmarshal(body, &fields) != nil {
		return ""
	}
	if m := namedField.FindStringSubmatch(detail); m != nil {
		return "/" + m[1]
	}
	for _, m := range pointerWord.FindAllStringSubmatch(detail, -1) {
		first, _, _ := strings.Cut(strings.TrimPrefix(m[1], "/"), "/")
		if _, ok := fields[first]; ok {
			return m[1]
		}
	}
	line, _, _ := strings.Cut(detail, "\n")
	for _, word := range plainWord.FindAllString(line, -1) {
		if _, ok := fields[word]; ok && !slices.Contains(smallWords, strings.ToLower(word)) {
			return "/" + word
		}
	}
	return ""
}

// statesOf reads states, separated by commas.
func statesOf(text, otherwise string) ([]queue.State, error) {
	if text == "" {
		text = otherwise
	}
	var out []queue.State
	for name := range strings.SplitSeq(text, ",") {
		s, ok := queue.ParseState(name)
		if !ok {
			return nil, invalid("state", fmt.Sprintf("state is %q", name), strings.Join(queue.StateNames(), ", "))
		}
		out = append(out, s)
	}
	return out, nil
}

func (s *Server) items(c *gin.Context) {
	t, ok := s.queueOf(c)
	if !ok {
		return
	}
	limit, ok := intQuery(c, "limit", defaultPage, 1, maxPage)
	if !ok {
		return
	}
	states, err := statesOf(c.Query("state"), "waiting,leased,delayed,dead")
	if refuse(c, err) {
		return
	}
	sel := queues.Selection{States: states, Where: c.Query("where")}
	if sel.Cause, err = queues.ParseCause(c.Query("cause")); refuse(c, err) {
		return
	}
	var from *queues.Place
	if text := c.Query("cursor"); text != "" {
		partition, offset, _ := strings.Cut(text, ":")
		p, e1 := strconv.Atoi(partition)
		o, e2 := strconv.ParseInt(offset, 10, 64)
		if e1 != nil || e2 != nil {
			writeProblem(c, invalid("cursor", fmt.Sprintf("cursor is %q", text), "the next of the page before"))
			return
		}
		from = &queues.Place{Partition: p, Offset: o}
	}
	items, next, err := s.node.Queues.Items(c, t, sel, from, limit, c.Query("sort") == "newest")
	if refuse(c, err) {
		return
	}
	out := form.Page[form.QueueMessage]{Items: []form.QueueMessage{}}
	size := 0
	for i := range items {
		out.Items = append(out.Items, itemJSON(t, &items[i]))
		size += bytesOf(items[i].Message)
	}
	if next != nil {
		out.Next = fmt.Sprintf("%d:%d", next.Partition, next.Offset)
	}
	s.writePage(c, out, size)
}

func (s *Server) item(c *gin.Context) {
	t, ok := s.queueOf(c)
	if !ok {
		return
	}
	partition, e1 := strconv.Atoi(c.Param("partition"))
	offset, e2 := strconv.ParseInt(c.Param("offset"), 10, 64)
	if e1 != nil || e2 != nil || offset < 0 {
		writeProblem(c, invalid("offset", fmt.Sprintf("%s:%s is not a place", c.Param("partition"), c.Param("offset")), "whole numbers from 0"))
		return
	}
	item, err := s.node.Queues.Item(c, t, partition, offset, true)
	if refuse(c, err) {
		return
	}
	if c.Query("format") == "raw" && item.Message != nil {
		writeBody(c, t, item.Message)
		return
	}
	for _, m := range []**message.Stored{&item.Message, &item.Original} {
		if *m != nil {
			*m = shown(*m)
		}
	}
	out := itemJSON(t, item)
	out.Address, out.Partition = t.Address().At(partition, offset).String(), partition
	c.JSON(http.StatusOK, out)
}

// choiceOf reads which messages are meant.
func choiceOf(t *part.Channel, in form.Choice, states ...queue.State) (sel queues.Selection, err error) {
	sel = queues.Selection{States: states, Where: in.Where, Limit: in.Limit}
	if in.Limit < 0 {
		return sel, invalid("limit", fmt.Sprintf("limit is %d", in.Limit), "1 or more; 0 for all")
	}
	if sel.Cause, err = queues.ParseCause(in.Cause); err != nil {
		return sel, err
	}
	for _, text := range in.Messages {
		at, err := parsePlace(t, text)
		if err != nil {
			return sel, err
		}
		sel.Messages = append(sel.Messages, at)
	}
	return sel, nil
}

// parsePlace reads the address of a message of the queue.
func parsePlace(t *part.Channel, text string) (queues.Place, error) {
	own := t.Address()
	a, err := address.Parse(text)
	if err == nil && (a.Kind() != address.KindMessage || a.QueuePart() != own) {
		err = invalid("messages", fmt.Sprintf("%s is no message of %s", text, own), "addresses such as "+own.At(0, 1200).String())
	}
	return queues.Place{Partition: a.Partition, Offset: a.Offset}, err
}

var actions = map[string]queue.Op{"return": queue.OpReturn, "edit": queue.OpEdit, "discard": queue.OpDiscard, "take-back": queue.OpTakeBack}

func (s *Server) act(c *gin.Context) {
	t, ok := s.queueOf(c)
	if !ok {
		return
	}
	var in form.QueueAction
	if !readJSON(c, &in) {
		return
	}
	op := actions[in.Action]
	if op == 0 {
		writeProblem(c, invalid("action", fmt.Sprintf("action is %q", in.Action), "return, edit, discard, take-back"))
		return
	}
	states := []queue.State{queue.Dead}
	switch {
	case op == queue.OpTakeBack:
		states[0] = queue.Discarded
	case op == queue.OpDiscard && in.State == "waiting":
		states = []queue.State{queue.Waiting, queue.Delayed}
	case in.State != "" && in.State != "dead":
		writeProblem(c, invalid("state", fmt.Sprintf("state is %q", in.State), "dead, or waiting for what is discarded"))
		return
	}
	sel, err := choiceOf(t, in.Choice, states...)
	if refuse(c, err) {
		return
	}
	after, err := durationField("after", in.After)
	if refuse(c, err) {
		return
	}
	r, err := s.node.Queues.Act(c, t, sel, queues.Action{Op: op, Who: who(c), Reason: in.Reason, After: after, Edits: in.Edits, Return: in.Return}, in.Preview)
	if !refuse(c, err) {
		c.JSON(http.StatusOK, actionJSON(t, r))
	}
}

func actionJSON(t *part.Channel, r *queues.ActionResult) form.QueueActionResult {
	out := form.QueueActionResult{Address: t.Address().String(), Messages: r.Messages, Effects: orNone(r.Effects), Samples: []form.ActionSample{}, Until: r.Until, Done: r.Done}
	for _, sample := range r.Samples {
		if sample.Item.Message != nil {
			out.Samples = append(out.Samples, sampleJSON(t, sample.Item.Message, sample.After))
		}
	}
	return out
}

func sampleJSON(t *part.Channel, before, after *message.Stored) form.ActionSample {
	m := form.MessageOf(t.Address(), before)
	out := form.ActionSample{Address: m.Address, Key: m.Key, Headers: m.Headers, Body: m.Body}
	if after != nil {
		edited := form.MessageOf(t.Address(), after)
		out.After = &form.EditedMessage{Key: edited.Key, Headers: edited.Headers, Body: edited.Body}
	}
	return out
}
