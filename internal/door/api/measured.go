package api

import (
	"fmt"
	"math"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/door/gate"
)

// Bounds of what is asked for.
const (
	mostFigures  = 2000
	usualFigures = 1500
	mostPast     = 30 * 24 * time.Hour
)

// measured tells what was measured of a thing lately.
func (s *Server) measured(c *gin.Context) {
	a, err := address.Parse(c.Query("address"))
	if gate.Refuse(c, err) || gate.Refuse(c, access.Check(c, access.SeeCounts, a.String())) {
		return
	}
	span := 24 * time.Hour
	if text := c.Query("span"); text != "" {
		d, err := address.ParseDuration(text)
		if err != nil || d < time.Minute || d > mostPast {
			gate.WriteProblem(c, gate.Invalid("span", fmt.Sprintf("span is %q", text), "1m to 30d"))
			return
		}
		span = d
	}
	most, ok := gate.IntQuery(c, "most", usualFigures, 1, mostFigures)
	if !ok {
		return
	}
	thing, err := s.thingAt(c, a)
	if gate.Refuse(c, err) {
		return
	}
	now := time.Now()
	b, err := s.Node.Samples.History(c, thing, now.Add(-span), now, most)
	if gate.Refuse(c, err) {
		return
	}
	k := sample.Named(thing.Kind)
	out := form.Measured{Address: a.String(), Kind: k.Name, Begin: b.Begin.UTC(), StepSeconds: int(b.Step / time.Second), Values: make([]form.MeasuredValue, len(k.Values))}
	for v := range k.Values {
		figures := make([]*float64, b.Len())
		for i := range figures {
			if x := b.At(v, i); !math.IsNaN(x) {
				figures[i] = &x
			}
		}
		out.Values[v] = form.MeasuredValue{Name: k.Values[v].Name, Unit: k.Values[v].Unit, Figures: figures}
	}
	c.JSON(http.StatusOK, out)
}

// thingAt returns what is measured at an address.
func (s *Server) thingAt(c *gin.Context, a address.Address) (sample.Thing, error) {
	switch a.Kind() {
	case address.KindSpace:
		sp, err := s.Node.Parts.Space(a.Space)
		if err != nil {
			return sample.Thing{}, err
		}
		return sample.Thing{Kind: sample.Space.Name, ID: sp.ID}, nil
	case address.KindGroup:
		_, g, err := s.Node.Parts.Group(a)
		if err != nil {
			return sample.Thing{}, err
		}
		return sample.Thing{Kind: sample.Group.Name, ID: g.ID}, nil
	case address.KindDead:
		q, err := s.Node.Queues.At(a)
		if err != nil {
			return sample.Thing{}, err
		}
		return sample.Thing{Kind: sample.Channel.Name, ID: q.ID}, nil
	case address.KindChannel:
		for id, n := range s.Node.Catalog.View().Nodes {
			if a.Space == address.Nodes && n.Name == a.Channel {
				return sample.Thing{Kind: sample.Node.Name, ID: int64(id)}, nil
			}
		}
		t, err := s.Node.Parts.Channel(a)
		if err == nil {
			return sample.Thing{Kind: sample.Channel.Name, ID: t.ID}, nil
		}
		if e, outside := s.Node.Endpoints.Of(c, a); outside == nil {
			return sample.Thing{Kind: sample.Endpoint.Name, ID: e.ID}, nil
		}
		return sample.Thing{}, err
	}
	return sample.Thing{}, problem.New(problem.Invalid, "%s is the address of a %s", a, a.Kind()).Field("address").Allowed("a space, a channel, dead letters, a group, a route, an endpoint or a node (nodes/NAME)")
}
