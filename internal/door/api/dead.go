package api

import (
	"cmp"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/door/gate"
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
	t, ok := s.QueueOf(c)
	if !ok {
		return
	}
	span := defaultDeadSpan
	if text := c.Query("span"); text != "" {
		d, err := address.ParseDuration(text)
		if err != nil || d < time.Minute || d > maxDeadSpan {
			gate.WriteProblem(c, gate.Invalid("span", fmt.Sprintf("span is %q", text), "1m to 90d"))
			return
		}
		span = d
	}
	dead, err := s.Node.Queues.Dead(c, t, span, deadBars)
	if gate.Refuse(c, err) {
		return
	}
	a := t.Address()
	out := form.DeadLetters{Total: dead.Total, Since: dead.Since.UTC(), Causes: []form.DeadCause{}}
	a.Dead = true
	out.Address = a.String()
	for _, d := range dead.Causes {
		row := form.DeadCause{Cause: queue.CauseID(d.ID), Reason: d.Reason, Pattern: queue.Shown(d.Pattern), Count: d.Count, Share: d.Share, FirstSeen: d.First, LastSeen: d.Last, Bars: d.Bars}
		if d.Sample != nil {
			m := d.Sample.Form(t)
			row.Sample = &m
		}
		out.Causes = append(out.Causes, row)
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) items(c *gin.Context) {
	t, ok := s.QueueOf(c)
	if !ok {
		return
	}
	limit, ok := gate.IntQuery(c, "limit", gate.DefaultPage, 1, gate.MaxPage)
	if !ok {
		return
	}
	states, err := queue.ParseStates(c.Query("state"), "waiting,leased,delayed,dead")
	if gate.Refuse(c, err) {
		return
	}
	sel := queues.Selection{States: states, Where: c.Query("where")}
	if sel.Cause, err = queue.ParseCause(c.Query("cause")); gate.Refuse(c, err) {
		return
	}
	var from *queues.Place
	if text := c.Query("cursor"); text != "" {
		partition, offset, _ := strings.Cut(text, ":")
		p, e1 := strconv.Atoi(partition)
		o, e2 := strconv.ParseInt(offset, 10, 64)
		if e1 != nil || e2 != nil {
			gate.WriteProblem(c, gate.Invalid("cursor", fmt.Sprintf("cursor is %q", text), "the next of the page before"))
			return
		}
		from = &queues.Place{Partition: p, Offset: o}
	}
	items, next, err := s.Node.Queues.Items(c, t, sel, from, limit, c.Query("sort") == "newest")
	if gate.Refuse(c, err) {
		return
	}
	out := form.Page[form.QueueMessage]{Items: []form.QueueMessage{}}
	size := 0
	for i := range items {
		out.Items = append(out.Items, items[i].Form(t))
		size += gate.BytesOf(items[i].Message)
	}
	if next != nil {
		out.Next = fmt.Sprintf("%d:%d", next.Partition, next.Offset)
	}
	s.WritePage(c, out, size)
}

func (s *Server) item(c *gin.Context) {
	t, ok := s.QueueOf(c)
	if !ok {
		return
	}
	partition, e1 := strconv.Atoi(c.Param("partition"))
	offset, e2 := strconv.ParseInt(c.Param("offset"), 10, 64)
	if e1 != nil || e2 != nil || offset < 0 {
		gate.WriteProblem(c, gate.Invalid("offset", fmt.Sprintf("%s:%s is not a place", c.Param("partition"), c.Param("offset")), "whole numbers from 0"))
		return
	}
	item, err := s.Node.Queues.Item(c, t, partition, offset, true)
	if gate.Refuse(c, err) {
		return
	}
	if c.Query("format") == "raw" && item.Message != nil {
		gate.WriteBody(c, t, item.Message)
		return
	}
	for _, m := range []**message.Stored{&item.Message, &item.Original} {
		if *m != nil {
			*m = gate.Shown(*m)
		}
	}
	out := item.Form(t)
	out.By = s.Node.Publishers.By(c, cmp.Or(item.Original, item.Message))
	out.Address, out.Partition = t.Address().At(partition, offset).String(), partition
	c.JSON(http.StatusOK, out)
}

// choiceOf reads which messages are meant.
func choiceOf(t *part.Channel, in form.Choice, states ...queue.State) (sel queues.Selection, err error) {
	sel = queues.Selection{States: states, Where: in.Where, Limit: in.Limit}
	if in.Limit < 0 {
		return sel, gate.Invalid("limit", fmt.Sprintf("limit is %d", in.Limit), "1 or more; 0 for all")
	}
	if sel.Cause, err = queue.ParseCause(in.Cause); err != nil {
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
		err = gate.Invalid("messages", fmt.Sprintf("%s is no message of %s", text, own), "addresses such as "+own.At(0, 1200).String())
	}
	return queues.Place{Partition: a.Partition, Offset: a.Offset}, err
}

var actions = map[string]queue.Op{"return": queue.OpReturn, "edit": queue.OpEdit, "discard": queue.OpDiscard, "undo": queue.OpUndo}

func (s *Server) act(c *gin.Context) {
	t, ok := s.QueueOf(c)
	if !ok {
		return
	}
	var in form.QueueAction
	if !gate.ReadJSON(c, &in) {
		return
	}
	op := actions[in.Action]
	if op == 0 {
		gate.WriteProblem(c, gate.Invalid("action", fmt.Sprintf("action is %q", in.Action), "return, edit, discard, undo"))
		return
	}
	states := []queue.State{queue.Dead}
	switch {
	case op == queue.OpUndo:
		states[0] = queue.Discarded
	case op == queue.OpDiscard && in.State == "waiting":
		states = []queue.State{queue.Waiting, queue.Delayed}
	case in.State != "" && in.State != "dead":
		gate.WriteProblem(c, gate.Invalid("state", fmt.Sprintf("state is %q", in.State), "dead, or waiting for what is discarded"))
		return
	}
	sel, err := choiceOf(t, in.Choice, states...)
	if gate.Refuse(c, err) {
		return
	}
	after, err := gate.DurationField("after", in.After)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	if op == queue.OpDiscard && !preview && gate.CheckFresh(c) {
		return
	}
	r, err := s.Node.Queues.Act(c, t, sel, queues.Action{Op: op, Who: gate.Who(c), Why: in.Why, After: after, Edits: in.Edits, Return: in.Return}, preview)
	if !gate.Refuse(c, err) {
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
	out := form.ActionSample{Address: m.Address, Key: m.Key, Headers: m.Headers, Body: m.Body, Masked: m.Masked}
	if after != nil {
		edited := form.MessageOf(t.Address(), after)
		out.After = &form.EditedMessage{Key: edited.Key, Headers: edited.Headers, Body: edited.Body}
	}
	return out
}
