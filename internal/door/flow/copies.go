package flow

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/route"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/part"
)

// copyOf is what a request about copies names: a partition here, and a route elsewhere
// with the partition that it reads.
type copyOf struct {
	t         *part.Channel
	partition int
	source    route.Source
}

// ofElsewhere keeps ids of routes of other clusters apart from those of this one, and
// those of one principal from those of another.
func ofElsewhere(id uuid.UUID, who string) uuid.UUID {
	return uuid.NewSHA1(id, []byte("elsewhere/"+who))
}

func (s *Flow) copyOf(c *gin.Context) (at copyOf, ok bool) {
	if at.t, ok = s.TopicOf(c); !ok {
		return at, false
	}
	partition, err := strconv.Atoi(c.Param("partition"))
	if err != nil {
		gate.WriteProblem(c, gate.Invalid("partition", fmt.Sprintf("partition is %q", c.Param("partition")), "a whole number"))
		return at, false
	}
	at.partition = partition
	id, err := uuid.Parse(c.Param("route"))
	if err != nil {
		gate.WriteProblem(c, gate.Invalid("route", fmt.Sprintf("%q is not the id of a route", c.Param("route")), "a UUID"))
		return at, false
	}
	from, ok := gate.IntQuery(c, "source", 0, 0, 1<<16-1)
	at.source = route.Source{Route: ofElsewhere(id, gate.Who(c)), Partition: uint32(from)}
	return at, ok
}

// copied tells up to which place a partition has the messages of a route elsewhere.
func (s *Flow) copied(c *gin.Context) {
	at, ok := s.copyOf(c)
	if !ok {
		return
	}
	p, err := at.t.Partition(at.partition)
	if gate.Refuse(c, err) {
		return
	}
	told, err := s.Node.Parts.OriginOf(c, p, at.source)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Copied{Place: told.Origin.String(), Recovered: told.Recovered})
	}
}

// takeCopy takes a batch of a route elsewhere, once: if it belongs directly behind what
// the partition has of that.
func (s *Flow) takeCopy(c *gin.Context) {
	at, ok := s.copyOf(c)
	if !ok {
		return
	}
	sent := &message.Route{ID: at.source.Route, Partition: at.source.Partition}
	for _, place := range []struct {
		name string
		to   *message.Place
	}{{"after", &sent.After}, {"upTo", &sent.UpTo}} {
		var err error
		if *place.to, err = message.ParsePlace(c.Query(place.name)); err != nil {
			gate.WriteProblem(c, gate.Invalid(place.name, err.Error(), "recovery, cut and offset, as 0.1.2000"))
			return
		}
	}
	if !sent.After.Before(sent.UpTo) {
		gate.WriteProblem(c, gate.Invalid("upTo", fmt.Sprintf("upTo is %s, which is not behind %s", sent.UpTo, sent.After), "a later place"))
		return
	}
	recovered, err := strconv.ParseUint(c.DefaultQuery("recovered", "0"), 10, 63)
	if err != nil {
		gate.WriteProblem(c, gate.Invalid("recovered", fmt.Sprintf("recovered is %q", c.Query("recovered")), "a whole number"))
		return
	}
	sent.Recovered = recovered
	hold := s.Node.Parts.Hold(gate.Who(c))
	defer hold.Release()
	data, err := gate.ReadBody(c, c, hold, message.StampSize, message.MaxBatchBytes+int64(message.BatchHeaderSize))
	if gate.Refuse(c, err) {
		return
	}
	behind, err := s.Node.Parts.PublishCopy(c, at.t, at.partition, data, sent, hold)
	if errors.Is(err, route.ErrEnded) {
		err = problem.New(problem.Gone, "the route has ended here")
	}
	if gate.Refuse(c, err) {
		return
	}
	out := form.Copied{Taken: behind == nil, Place: sent.UpTo.String(), Recovered: recovered}
	if behind != nil {
		out.Place, out.Recovered = behind.Origin.String(), behind.Recovered
	}
	c.JSON(http.StatusOK, out)
}
