package acts

import (
	"context"
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/report"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/service/timetable"
)

// reportSpan is what a report of a chore is about.
const reportSpan = 24 * time.Hour

// reporting sends the report of a space to those that the chore tells.
func (s *Services) reporting() timetable.Act {
	return timetable.Act{Needs: []string{"of"},
		Check: func(c *setting.Chore) error {
			if len(c.Tell) == 0 {
				return problem.New(problem.Invalid, "a chore that does report needs tell: who gets it").Field("tell").Allowed("addresses of endpoints")
			}
			_, err := ofOne(c, address.KindSpace)
			return err
		},
		Plan: func(_ context.Context, c *setting.Chore) (*timetable.Plan, error) {
			if _, err := s.Parts.Space(c.Of); err != nil {
				return nil, err
			}
			return &timetable.Plan{Effects: []string{fmt.Sprintf("it would send the report of the last day of %s to %s", c.Of, strings.Join(c.Tell, ", "))}}, nil
		},
		Do: func(ctx context.Context, d *timetable.Doing) (bool, error) {
			r, err := s.Outlook.Report(ctx, d.Chore().Of, reportSpan)
			if err != nil {
				return false, err
			}
			text, err := report.Markdown(r)
			if err != nil {
				return false, err
			}
			d.Attach(text, "/api/v1/reports/"+r.Space+"?format=html")
			d.Says("%s", r.Says)
			return true, nil
		}}
}
