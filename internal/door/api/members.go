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
)

// durationOf reads a duration of a body; empty is 0.
func durationOf(name, text string, most time.Duration) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	d, err := address.ParseDuration(text)
	if err != nil || d < 0 || d > most {
		return 0, invalid(name, fmt.Sprintf("%s is %q", name, text), "0s to "+address.FormatDuration(most))
	}
	return d, nil
}

func (s *Server) joinGroup(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.JoinGroup
	if !ok || !readJSON(c, &body) {
		return
	}
	session, err := durationOf("session", body.Session, time.Hour)
	if refuse(c, err) {
		return
	}
	var from *address.Position
	if body.From != "" {
		p, err := address.ParsePosition(body.From)
		if refuse(c, err) {
			return
		}
		from = &p
	}
	m, err := s.node.Groups.Join(c, who(c), a, from, session, body.Label)
	if !refuse(c, err) {
		c.JSON(http.StatusCreated, m)
	}
}

func (s *Server) beat(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Beat
	if !ok || !readJSON(c, &body) {
		return
	}
	wait, err := durationOf("wait", body.Wait, maxWait)
	if refuse(c, err) {
		return
	}
	ctx, cancel := s.streamContext(c)
	defer cancel()
	m, err := s.node.Groups.Beat(ctx, a, c.Param("member"), body.Generation, body.Paused, body.Holds, wait)
	if !refuse(c, err) {
		c.JSON(http.StatusOK, m)
	}
}

func (s *Server) poll(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Poll
	if !ok || !readJSON(c, &body) {
		return
	}
	wait, err := durationOf("wait", body.Wait, maxWait)
	if refuse(c, err) {
		return
	}
	if body.Max == 0 {
		body.Max = 100
	}
	if body.Max < 1 || body.Max > maxPoll {
		writeProblem(c, invalid("max", fmt.Sprintf("max is %d", body.Max), fmt.Sprintf("1 to %d", maxPoll)))
		return
	}
	upTo, err := group.ParseUpTo(body.UpTo)
	if err == nil && body.Commit && body.UpTo == "" {
		err = errors.New("commit is set, and upTo is missing")
	}
	if err != nil {
		writeProblem(c, invalid("upTo", err.Error(), "the upTo of the last answer that arrived; none with the first poll"))
		return
	}
	ctx, cancel := s.streamContext(c)
	defer cancel()
	polled, err := s.node.Groups.Poll(ctx, a, c.Param("member"), body.Max, wait, upTo, body.Commit)
	if refuse(c, err) {
		return
	}
	out := form.Polled{Membership: *polled.Membership, Gone: polled.Gone, Messages: []form.Message{}, UpTo: polled.UpTo.String()}
	for _, m := range polled.Messages {
		out.Messages = append(out.Messages, form.MessageOf(a.ChannelPart(), m))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) commit(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Commit
	if !ok || !readJSON(c, &body) {
		return
	}
	if !refuse(c, s.node.Groups.Commit(c, a, c.Param("member"), body.Generation, body.Offsets)) {
		c.Status(http.StatusNoContent)
	}
}

// reject makes a dead letter of the group of a message that cannot be
// processed.
func (s *Server) reject(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Reject
	if !ok || !readJSON(c, &body) {
		return
	}
	address, err := s.node.Groups.RejectRead(c, a, c.Param("member"), body.Partition, body.Offset, body.Reason, body.Detail)
	if !refuse(c, err) {
		c.JSON(http.StatusOK, form.Rejected{Address: address})
	}
}

func (s *Server) leaveGroup(c *gin.Context) {
	a, ok := groupOf(c)
	if ok && !refuse(c, s.node.Groups.Leave(c, a, c.Param("member"))) {
		c.Status(http.StatusNoContent)
	}
}
