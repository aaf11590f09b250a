package api

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/service/trace"
)

func (s *Server) trace(c *gin.Context) {
	t, ok := s.ChannelOf(c)
	if !ok {
		return
	}
	partition, e1 := strconv.Atoi(c.Param("partition"))
	offset, e2 := strconv.ParseInt(c.Param("offset"), 10, 64)
	if e1 != nil || e2 != nil || offset < 0 {
		gate.WriteProblem(c, gate.Invalid("offset", fmt.Sprintf("%s:%s is not a place", c.Param("partition"), c.Param("offset")), "whole numbers from 0"))
		return
	}
	tr, err := s.Node.Traces.Of(c, t, partition, offset)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, traceJSON(tr))
	}
}

// traceID finds messages by their id.
func (s *Server) traceID(c *gin.Context) {
	all, err := s.Node.Traces.ByID(c, c.Query("id"))
	if gate.Refuse(c, err) {
		return
	}
	out := form.Page[form.Trace]{Items: []form.Trace{}}
	for _, tr := range all {
		at, _, _ := strings.Cut(tr.Address, "#")
		s.Shows(c, at)
		out.Items = append(out.Items, traceJSON(tr))
	}
	c.JSON(http.StatusOK, out)
}

func orNoMessage(a address.Address, s *message.Stored) *form.Message {
	if s == nil {
		return nil
	}
	m := form.MessageOf(a.QueuePart(), gate.Shown(s))
	return &m
}

func traceJSON(tr *trace.Story) form.Trace {
	out := form.Trace{Address: tr.Address, ID: tr.ID, State: tr.State, Steps: []form.TraceStep{}, Copies: orNone(tr.Copies)}
	if a, err := address.Parse(tr.Address); err == nil {
		out.Message, out.Original = orNoMessage(a, tr.Message), orNoMessage(a, tr.Original)
	}
	for _, s := range tr.Steps {
		step := form.TraceStep{Address: s.Address, Event: s.Event, Who: s.Who, Reason: s.Reason, Detail: s.Detail}
		if !s.At.IsZero() {
			at := s.At
			step.At = &at
		}
		if !s.Began.IsZero() {
			began := s.Began
			step.Began = &began
		}
		out.Steps = append(out.Steps, step)
	}
	return out
}
