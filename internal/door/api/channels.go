package api

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// spaceJSON describes a space by what may be seen of it.
func (s *Server) spaceJSON(ctx context.Context, sp *catalog.Space) form.Space {
	out := form.Space{Space: sp.Name, Labels: map[string]string{}, CreatedAt: sp.CreatedAt.UTC()}
	if access.May(ctx, access.SeeCounts, sp.Name) {
		out.Description, out.Labels = sp.Description, sp.Labels
	}
	for _, t := range s.Node.Parts.ChannelsOf(sp.Name) {
		if !t.OfGroup() && access.May(ctx, access.SeeCounts, t.Record().Address()) {
			status, each := s.Node.Parts.Status(t, time.Now())
			out.Channels++
			if t.IsQueue() {
				status.Messages = queues.Summary(each).Kept()
			}
			out.Messages += status.Messages
			out.Bytes += status.Bytes
		}
	}
	return out
}

func (s *Server) listSpaces(c *gin.Context) {
	spaces := s.spacesSeen(c)
	slices.SortFunc(spaces, func(a, b *catalog.Space) int { return strings.Compare(a.Name, b.Name) })
	gate.Page(c, spaces, func(sp *catalog.Space) string { return sp.Name }, func(sp *catalog.Space) form.Space { return s.spaceJSON(c, sp) })
}

// spacesSeen are the spaces of which whoever asks may see something.
func (s *Server) spacesSeen(ctx context.Context) []*catalog.Space {
	all := slices.Collect(maps.Values(s.Node.Catalog.View().Spaces))
	return slices.DeleteFunc(all, func(sp *catalog.Space) bool { return !access.Reaches(ctx, access.SeeCounts, sp.Name) })
}

func (s *Server) newSpace(c *gin.Context) {
	var name string
	settings, ok := gate.ReadSettings(c, setting.Spaces, gate.Others{"space": &name})
	if !ok || gate.Refuse(c, s.Node.Manage.NewSpace(c, gate.Who(c), name, settings)) {
		return
	}
	s.answerSpace(c, name, http.StatusCreated)
}

func (s *Server) answerSpace(c *gin.Context, name string, status int) {
	sp, err := s.Node.Parts.Space(name)
	if !gate.Refuse(c, err) {
		out := s.spaceJSON(c, sp)
		out.Declared = s.Node.Declares.Of(c, name)
		if access.May(c, access.SeeCounts, name) {
			out.Settings, out.Uses = setting.Spaces.Show(&sp.Space, ""), s.Node.Quotas.OfSpace(sp)
			for i := range out.Uses {
				if q := &out.Uses[i]; q.Name == "mostKept" && q.Used < q.Most {
					q.Full = s.Node.Outlook.Full(c, name)
				}
			}
		}
		c.JSON(status, out)
	}
}

func (s *Server) showSpace(c *gin.Context) { s.answerSpace(c, c.Param("space"), http.StatusOK) }

func (s *Server) setSpace(c *gin.Context) {
	settings, ok := gate.ReadSettings(c, setting.Spaces, nil)
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Manage.SetSpace(c, gate.Who(c), c.Param("space"), settings, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) removeSpace(c *gin.Context) {
	if !gate.Refuse(c, s.Node.Manage.RemoveSpace(c, gate.Who(c), c.Param("space"))) {
		c.Status(http.StatusNoContent)
	}
}

// topicJSON describes a topic; whole adds its partitions and forecast.
func (s *Server) topicJSON(ctx context.Context, t *part.Channel, now time.Time, whole bool) form.Channel {
	ch := t.Record()
	status, each := s.Node.Parts.Status(t, now)
	out := form.Channel{
		Address: ch.Address(), Space: ch.Space, Channel: ch.Name, Kind: ch.Kind, State: status.State, Description: ch.Description, Labels: ch.Labels,
		CreatedAt: ch.CreatedAt.UTC(), Revision: ch.Revision, Partitions: ch.Partitions, Replicas: ch.Replicas, Retain: address.FormatDuration(time.Duration(ch.RetainMS) * time.Millisecond),
		RetainBytes: ch.RetainBytes, Hold: orNone(ch.Hold), HoldBytes: ch.HoldBytes, MaxBody: ch.MaxBody, IDWindow: address.FormatDuration(time.Duration(ch.IDWindowMS) * time.Millisecond),
		Paused: ch.Paused, Messages: status.Messages, Bytes: status.Bytes, Oldest: status.Oldest, Newest: status.Newest, Rates: status.Rates, Settings: setting.Channels.Show(&ch.Channel, ch.Kind),
		Fill: float64(status.Bytes) / (float64(ch.RetainBytes) * float64(ch.Partitions)),
	}
	if t.IsQueue() {
		if whole {
			s.Node.Queues.Refresh(ctx, t, each)
		}
		out.Queue = queueJSON(t, queues.Summary(each))
		out.Messages = out.Queue.Kept()
		out.Retain, out.RetainBytes, out.Fill = "", 0, 0
		out.Oldest = out.Queue.OldestWaiting
	}
	if !whole {
		return out
	}
	for _, p := range each {
		a := t.Address()
		a.Partition = p.Partition
		out.Each = append(out.Each, form.Partition{Partition: p.Partition, Address: a.String(), Leader: s.Node.Parts.NodeName(p.Leader), Term: p.Term, Replicas: s.replicasJSON(p.Replicas), First: p.First, End: p.End,
			Messages: p.End - p.First, Bytes: p.Bytes, Oldest: p.Oldest, Newest: p.Newest, State: p.State, Rates: p.Rates})
		if p.Queue != nil {
			row := &out.Each[len(out.Each)-1]
			row.Queue = &p.Queue.Counts
			row.Messages = p.Queue.Kept()
		}
	}
	if t.IsQueue() {
		return out
	}
	f := s.Node.Manage.Forecast(ctx, t, now)
	out.Forecast = &form.Forecast{BytesPerSecond: f.BytesPerSecond, MessagesPerSecond: f.MessagesPerSecond, Bytes: f.Bytes, Messages: f.Messages,
		Span: address.FormatDuration(f.Span), LimitedBy: f.LimitedBy}
	return out
}

func orNone(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}

func (s *Server) listChannels(c *gin.Context) {
	now := time.Now()
	space := c.Query("space")
	if space != "" {
		if _, err := s.Node.Parts.Space(space); gate.Refuse(c, err) {
			return
		}
	}
	channels := slices.DeleteFunc(access.Only(c, access.SeeCounts, s.Node.Parts.ChannelsOf(space), func(t *part.Channel) string { return t.Record().Address() }), (*part.Channel).OfGroup)
	gate.Page(c, channels, func(t *part.Channel) string { return t.Address().String() }, func(t *part.Channel) form.Channel { return s.topicJSON(c, t, now, false) })
}

func (s *Server) newChannel(c *gin.Context) {
	var in struct{ address, kind string }
	settings, ok := gate.ReadSettings(c, setting.Channels, gate.Others{"address": &in.address, "kind": &in.kind})
	if !ok {
		return
	}
	a, err := address.ParseChannel(in.address)
	if gate.Refuse(c, err) {
		return
	}
	if in.kind != catalog.KindTopic && in.kind != catalog.KindQueue {
		gate.WriteProblem(c, gate.Invalid("kind", fmt.Sprintf("kind is %q", in.kind), "topic, queue"))
		return
	}
	t, err := s.Node.Manage.NewChannel(c, gate.Who(c), in.kind, a, settings)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusCreated, s.topicJSON(c, t, time.Now(), true))
	}
}

func (s *Server) showChannel(c *gin.Context) {
	if t, ok := s.TopicOf(c); ok {
		out := s.topicJSON(c, t, time.Now(), true)
		out.Declared = s.Node.Declares.Of(c, t.Address().String())
		c.JSON(http.StatusOK, out)
	}
}

func (s *Server) setChannel(c *gin.Context) {
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	var revision *int64
	settings, ok := gate.ReadSettings(c, setting.Channels, gate.Others{"revision": &revision})
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Manage.SetChannel(c, gate.Who(c), a, settings, revision, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) removeChannel(c *gin.Context) {
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Manage.RemoveChannel(c, gate.Who(c), a, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) restoreChannel(c *gin.Context) {
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) || gate.Refuse(c, s.Node.Manage.RestoreChannel(c, gate.Who(c), a)) {
		return
	}
	s.showChannel(c)
}

func (s *Server) rates(c *gin.Context) {
	t, ok := s.TopicOf(c)
	if !ok {
		return
	}
	span := 5 * time.Minute
	if text := c.Query("span"); text != "" {
		d, err := address.ParseDuration(text)
		if err != nil || d < 10*time.Second || d > time.Hour {
			gate.WriteProblem(c, gate.Invalid("span", fmt.Sprintf("span is %q", text), "10s to 1h"))
			return
		}
		span = d
	}
	partition, ok := gate.IntQuery(c, "partition", part.AnyPartition, 0, t.Record().Partitions-1)
	if !ok {
		return
	}
	now := time.Now()
	flow, step := s.Node.Parts.Series(c, t, now, span, partition)
	start := now.Truncate(step).Add(-time.Duration(len(flow)) * step)
	c.JSON(http.StatusOK, form.Series{Start: start.UTC(), Step: step.Seconds(), Flow: flow})
}

func (s *Server) checkCondition(c *gin.Context) {
	_, err := expr.Compile(c.Query("where"))
	if err == nil {
		c.JSON(http.StatusOK, form.ConditionCheck{OK: true})
		return
	}
	p := gate.ProblemOf(err)
	c.JSON(http.StatusOK, form.ConditionCheck{Column: p.Column, Problem: strings.TrimPrefix(p.Detail, fmt.Sprintf("condition, column %d: ", p.Column)), Hint: p.Next})
}

// lookup tells what the text of the search box leads to.
func (s *Server) lookup(c *gin.Context) {
	text := strings.TrimSpace(c.Query("address"))
	out := form.Found{Address: text, Near: []string{}}
	view := s.Node.Catalog.View()
	for name, ch := range view.Channels {
		if ch.GroupID.Valid {
			name += "/dead"
		}
		if strings.Contains(name, strings.ToLower(text)) {
			out.Near = append(out.Near, name)
		}
		for group := range view.Groups[ch.ID] {
			if address := ch.Reader(group); strings.Contains(address, strings.ToLower(text)) && strings.Contains(group, text[strings.LastIndexAny(text, "@/")+1:]) {
				out.Near = append(out.Near, address)
			}
		}
	}
	named := slices.AppendSeq(slices.AppendSeq(slices.Collect(maps.Keys(view.Endpoints)), maps.Keys(view.Watches)), maps.Keys(view.Chores))
	for _, name := range named {
		if strings.Contains(name, strings.ToLower(text)) {
			out.Near = append(out.Near, name)
		}
	}
	out.Near = access.Only(c, access.SeeCounts, out.Near, func(at string) string { return at })
	sort.Strings(out.Near)
	out.Near = out.Near[:min(len(out.Near), 10)]
	a, err := address.Parse(text)
	if err != nil {
		out.Detail = err.Error()
		c.JSON(http.StatusOK, out)
		return
	}
	out.Kind = string(a.Kind())
	if err := access.Check(c, access.SeeCounts, a.String()); err != nil {
		out.Detail = err.Error()
		c.JSON(http.StatusOK, out)
		return
	}
	if kind := view.Beside(a.String()); kind != "" && a.Kind() == address.KindChannel {
		out.Kind, out.Exists = kind, true
		c.JSON(http.StatusOK, out)
		return
	}
	if err := s.exists(c, a); err != nil {
		out.Detail = err.Error()
	} else {
		out.Exists = true
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) exists(ctx context.Context, a address.Address) error {
	if a.Kind() == address.KindSpace {
		_, err := s.Node.Parts.Space(a.Space)
		return err
	}
	t, err := s.Node.Parts.Channel(a)
	if err != nil {
		return err
	}
	switch a.Kind() {
	case address.KindPartition:
		_, err = t.Partition(a.Partition)
	case address.KindMessage:
		var p *part.Partition
		if a.Group != "" || t.IsQueue() {
			var q *part.Channel
			if q, err = s.Node.Queues.At(a); err == nil {
				_, err = s.Node.Queues.Item(ctx, q, a.Partition, a.Offset, false)
			}
		} else if p, err = t.Partition(a.Partition); err == nil {
			_, err = logs.Message(ctx, s.Node.Parts, p, a.Offset, true)
		}
	case address.KindGroup:
		_, _, err = s.Node.Parts.Group(a)
	case address.KindDead:
		_, err = s.Node.Queues.At(a)
	}
	return err
}
