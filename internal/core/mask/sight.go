package mask

import (
	"fmt"
	"slices"

	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
)

// Sight is what somebody sees of what is in messages. A nil Sight sees all. It does not change.
type Sight struct {
	nothing bool
	masks   []*Mask
}

// Nothing sees of messages only that they are there.
var Nothing = &Sight{nothing: true}

// Through is what is seen through masks; without one, all.
func Through(masks []*Mask) *Sight {
	if len(masks) == 0 {
		return nil
	}
	return &Sight{masks: masks}
}

// And is what is seen with two sights, one before the other.
func (s *Sight) And(other *Sight) *Sight {
	switch {
	case s == nil || other == Nothing:
		return other
	case other == nil || s == Nothing:
		return s
	}
	return &Sight{masks: slices.Concat(s.masks, other.masks)}
}

// Whole reports whether nothing is hidden. What is no field of a message, such as the details of
// failures, is shown only then: it may tell of what is in them.
func (s *Sight) Whole() bool { return s == nil }

// Show returns a message as it is seen. It keeps the one that is given as it is.
func (s *Sight) Show(m *message.Stored) *message.Stored {
	switch {
	case s == nil || m == nil:
		return m
	case s.nothing:
		return m.Hide()
	}
	k := *m
	k.Headers, k.Masked = slices.Clone(m.Headers), slices.Clone(m.Masked)
	for i, h := range k.Headers {
		if h.Name == message.HeaderDetail {
			k.Headers[i].Value = dots
		}
	}
	k.Terms = m.Terms.WithoutDetail()
	for _, one := range s.masks {
		one.apply(&k)
	}
	k.Kept = m.Size()
	slices.Sort(k.Masked)
	k.Masked = slices.Compact(k.Masked)
	return &k
}

// Looks says what of the places that something looks at is hidden; nil: nothing.
func (s *Sight) Looks(places []string) error {
	if s == nil {
		return nil
	}
	for _, at := range places {
		if at == "detail" {
			return fmt.Errorf("it looks at detail, and the details of failures may tell of what mask %s hides", s.masks[0].name)
		}
		for _, m := range s.masks {
			if f := m.touches(at); f != "" {
				return fmt.Errorf("it looks at %s, and mask %s hides %s", at, m.name, f)
			}
		}
	}
	return nil
}

// Condition says why a condition, nil for none, would tell of what is hidden.
func (s *Sight) Condition(c *expr.Condition) error {
	if c == nil || s == nil {
		return nil
	}
	return s.Looks(c.Looks())
}

// Edits says why edits would tell of what is hidden, or change it.
func (s *Sight) Edits(edits []edit.Edit) error {
	if s == nil {
		return nil
	}
	for _, e := range edits {
		places := []string{e.At}
		if e.To != "" {
			places = append(places, e.To)
		}
		if e.Op == edit.Compute {
			v, err := expr.CompileValue(e.Expression)
			if err != nil {
				return err
			}
			places = append(places, v.Looks()...)
		}
		if err := s.Looks(places); err != nil {
			return fmt.Errorf("%s: %w", e, err)
		}
	}
	return nil
}

// Names are the masks that hide something.
func (s *Sight) Names() (names []string) {
	if s == nil {
		return nil
	}
	for _, m := range s.masks {
		names = append(names, m.name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}
