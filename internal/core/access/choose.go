package access

import (
	"cmp"
	"context"

	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/mask"
)

// MayChoose says why whoever asks may not choose messages at an address by a condition, or change
// them so: both tell of what is in them.
func MayChoose(ctx context.Context, at, where string, edits []edit.Edit) error {
	if where == "" && len(edits) == 0 {
		return nil
	}
	if err := Check(ctx, SeeContent, at); err != nil {
		return err
	}
	if Sight(ctx, SeeContent, at).Whole() {
		return nil // whoever carries it out compiles it
	}
	var condition *expr.Condition
	if where != "" {
		var err error
		if condition, err = expr.Compile(where); err != nil {
			return err
		}
	}
	return Masked(ctx, SeeContent, at, func(s *mask.Sight) error {
		return cmp.Or(s.Condition(condition), s.Edits(edits))
	})
}
