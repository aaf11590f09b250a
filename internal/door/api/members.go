package api

import (
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/door/gate"
)

func (s *Server) joinGroup(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.JoinGroup
	if !ok || !gate.ReadJSON(c, &body) {
		return
	}
	timeout, err := gate.DurationOf("timeout", body.Timeout, time.Hour)
	if gate.Refuse(c, err) {
		return
	}
	var from *address.Position
	if body.From != "" {
		p, err := address.ParsePosition(body.From)
		if gate.Refuse(c, err) {
			return
		}
		from = &p
	}
	m, err := s.Node.Groups.Join(c, gate.Who(c), a, from, timeout, body.Member)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusCreated, m)
	}
}

func (s *Server) beat(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Beat
	if !ok || !gate.ReadJSON(c, &body) {
		return
	}
	wait, err := gate.DurationOf("wait", body.Wait, gate.MaxWait)
	if gate.Refuse(c, err) {
		return
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	m, err := s.Node.Groups.Beat(ctx, a, c.Param("member"), body.Round, body.Paused, body.Holds, wait)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, m)
	}
}

func (s *Server) next(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Next
	if !ok || !gate.ReadJSON(c, &body) {
		return
	}
	wait, err := gate.DurationOf("wait", body.Wait, gate.MaxWait)
	if gate.Refuse(c, err) {
		return
	}
	if body.Max == 0 {
		body.Max = 100
	}
	if body.Max < 1 || body.Max > maxNext {
		gate.WriteProblem(c, gate.Invalid("max", fmt.Sprintf("max is %d", body.Max), fmt.Sprintf("1 to %d", maxNext)))
		return
	}
	upTo, err := group.ParseUpTo(body.UpTo)
	if err == nil && body.Commit && body.UpTo == "" {
		err = errors.New("commit is set, and upTo is missing")
	}
	if err != nil {
		gate.WriteProblem(c, gate.Invalid("upTo", err.Error(), "the upTo of the last answer that arrived; none with the first call"))
		return
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	given, err := s.Node.Groups.Next(ctx, a, c.Param("member"), body.Max, wait, upTo, body.Commit)
	if gate.Refuse(c, err) {
		return
	}
	out := form.Given{Membership: *given.Membership, Gone: given.Gone, Messages: []form.Message{}, UpTo: given.UpTo.String()}
	for _, m := range given.Messages {
		out.Messages = append(out.Messages, form.MessageOf(a.ChannelPart(), m))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) commit(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Commit
	if !ok || !gate.ReadJSON(c, &body) {
		return
	}
	if !gate.Refuse(c, s.Node.Groups.Commit(c, a, c.Param("member"), body.Round, body.Offsets)) {
		c.Status(http.StatusNoContent)
	}
}

// reject makes a dead letter of the group of a message that cannot be
// processed.
func (s *Server) reject(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Reject
	if !ok || !gate.ReadJSON(c, &body) {
		return
	}
	address, err := s.Node.Groups.RejectRead(c, a, c.Param("member"), body.Partition, body.Offset, body.Reason, body.Detail)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Rejected{Address: address})
	}
}

func (s *Server) leaveGroup(c *gin.Context) {
	a, ok := groupOf(c)
	if ok && !gate.Refuse(c, s.Node.Groups.Leave(c, a, c.Param("member"))) {
		c.Status(http.StatusNoContent)
	}
}
