package setting

import (
	"context"
	"fmt"
	"slices"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
)

// Use is how much somebody, or a space, may use; 0: there is no bound.
type Use struct {
	PublishRate int64 `json:"publishRate,omitempty"` // bytes a second
	ReadRate    int64 `json:"readRate,omitempty"`    // bytes a second
	RequestRate int   `json:"requestRate,omitempty"` // a second
	MostStreams int   `json:"mostStreams,omitempty"` // at once
}

// Room is how much a space may have; 0: there is no bound.
type Room struct {
	MostChannels   int   `json:"mostChannels,omitempty"`
	MostPartitions int   `json:"mostPartitions,omitempty"`
	MostKept       int64 `json:"mostKept,omitempty"` // bytes of messages, each counted once
}

// The least and the most that a bound may be. A rate of less than the least would have one large
// message be followed by minutes of silence.
const (
	leastRate, mostRate   = int64(64) << 10, int64(1) << 40
	leastKept, mostOfKept = int64(1) << 20, int64(1) << 50
	mostThings            = 1_000_000
)

// bound is values of a form, of type V, from which 0 takes the bound away.
func bound[V int | int64](f Form) Form {
	read, parse := f.Read, f.Parse
	f.Allowed = "0 (no bound), " + f.Allowed
	f.Read = func(name string, value any) (any, error) {
		if value == float64(0) || value == "" {
			return V(0), nil
		}
		return read(name, value)
	}
	f.Parse = func(name, text string) (any, error) {
		if text == "0" || text == "none" {
			return V(0), nil
		}
		return parse(name, text)
	}
	return f
}

// OfPrincipals are the bounds that can be set on principals.
var OfPrincipals = usable(func(p *Principal) *Use { return &p.Use })

// usable are the settings of how much may be used, of a T that has it somewhere.
func usable[T any](of func(t *T) *Use) Table[T] {
	rate := bound[int64](Size(leastRate, mostRate))
	return Table[T]{
		row(Setting[T]{Name: "publishRate", Label: "Publishes a second at most", Form: rate, Help: "`SIZE` a second that may be published at most: beyond it publishers are asked to wait",
			Effects: func(_, is *T) []string { return slower("publishers", of(is).PublishRate) }}, func(t *T) *int64 { return &of(t).PublishRate }),
		row(Setting[T]{Name: "readRate", Label: "Reads a second at most", Form: rate, Help: "`SIZE` a second that may be read at most: beyond it readers are asked to wait",
			Effects: func(_, is *T) []string { return slower("readers", of(is).ReadRate) }}, func(t *T) *int64 { return &of(t).ReadRate }),
		row(Setting[T]{Name: "requestRate", Label: "Requests a second at most", Form: bound[int](Number(1, mostThings, "")), Help: "`N` requests a second at most"}, func(t *T) *int { return &of(t).RequestRate }),
		row(Setting[T]{Name: "mostStreams", Label: "Streams at most", Form: bound[int](Number(1, mostThings, "")), Help: "`N` streams at most that are open at once: tails, members, publishers"}, func(t *T) *int { return &of(t).MostStreams }),
	}
}

func slower(who string, rate int64) []string {
	if rate == 0 {
		return nil
	}
	return []string{fmt.Sprintf("%s are asked to wait (429) beyond %s a second, over all nodes together", who, address.FormatSize(rate))}
}

// roomy are the settings of how much a space may have.
var roomy = Table[Space]{
	row(Setting[Space]{Name: "mostChannels", Label: "Channels at most", Form: bound[int](Number(1, mostThings, "")), Help: "`N` channels at most that the space has"}, func(s *Space) *int { return &s.MostChannels }),
	row(Setting[Space]{Name: "mostPartitions", Label: "Partitions at most", Form: bound[int](Number(1, mostThings, "")), Help: "`N` partitions at most that its channels have together"}, func(s *Space) *int { return &s.MostPartitions }),
	row(Setting[Space]{Name: "mostKept", Label: "Keeps at most", Form: bound[int64](Size(leastKept, mostOfKept)), Help: "`SIZE` that its channels may keep together, not counting replicas: beyond it nothing is taken",
		Effects: func(_, is *Space) []string {
			if is.MostKept == 0 {
				return nil
			}
			return []string{fmt.Sprintf("while more than %s is kept, nothing is taken (507), from people, routes and replays alike", address.FormatSize(is.MostKept))}
		}}, func(s *Space) *int64 { return &s.MostKept }),
}

// bounding are the names of all settings that bound.
var bounding = func() map[string]bool {
	all := map[string]bool{}
	for _, s := range append(slices.Clone(roomy), usable(func(s *Space) *Use { return &s.Use })...) {
		all[s.Name] = true
	}
	return all
}()

// InBytes reports whether values of a setting, of whatever has it, are bytes.
func InBytes(name string) bool {
	c, s := Channels.Named(name), Spaces.Named(name)
	return c != nil && c.Form.Name == "size" || s != nil && s.Form.Name == "size"
}

// CheckBounds returns how many bounds are in a change, and why whoever asks may not set them: they
// are for who looks after the nodes, since whoever they hold for could lift them otherwise.
func (c Change) CheckBounds(ctx context.Context) (bounds int, err error) {
	for name := range c {
		if bounding[name] {
			bounds++
		}
	}
	if bounds > 0 {
		err = access.Check(ctx, access.Nodes, address.Nodes)
	}
	return bounds, err
}
