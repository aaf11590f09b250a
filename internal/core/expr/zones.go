package expr

import (
	"sync"
	"time"

	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// parts of a time in a zone. The library reads the zone from disk each time.
var parts = map[string]func(time.Time) int{
	overloads.TimeGetFullYear:     time.Time.Year,
	overloads.TimeGetMonth:        func(t time.Time) int { return int(t.Month()) - 1 },
	overloads.TimeGetDayOfYear:    func(t time.Time) int { return t.YearDay() - 1 },
	overloads.TimeGetDayOfMonth:   func(t time.Time) int { return t.Day() - 1 },
	overloads.TimeGetDate:         time.Time.Day,
	overloads.TimeGetDayOfWeek:    func(t time.Time) int { return int(t.Weekday()) },
	overloads.TimeGetHours:        time.Time.Hour,
	overloads.TimeGetMinutes:      time.Time.Minute,
	overloads.TimeGetSeconds:      time.Time.Second,
	overloads.TimeGetMilliseconds: func(t time.Time) int { return t.Nanosecond() / 1e6 },
}

func init() {
	for name, part := range parts {
		prices[name] = func(m *meter, args []ref.Val) ref.Val {
			t, isTime := args[0].(types.Timestamp)
			if !isTime || len(args) < 2 {
				return nil
			}
			zone, ok := args[1].(types.String)
			if !ok {
				return nil
			}
			at, err := m.zone(string(zone))
			if err != nil {
				return types.WrapErr(err)
			}
			return types.Int(part(t.In(at)))
		}
	}
}

// zones is the locations that were asked for, by name. There are only so
// many: those that do not exist are not kept.
var zones sync.Map

// zoneWork is what it takes to read a zone.
const zoneWork = 100_000

// zone returns a time zone by its name, or by an offset such as +01:00.
func (m *meter) zone(name string) (*time.Location, error) {
	if known, ok := zones.Load(name); ok {
		return known.(*time.Location), nil
	}
	m.pay(zoneWork)
	if offset, err := time.Parse("-07:00", name); err == nil {
		return offset.Location(), nil
	} else if offset, err := time.Parse("-07:00", "+"+name); err == nil {
		return offset.Location(), nil
	}
	at, err := time.LoadLocation(name)
	if err == nil {
		zones.Store(name, at)
	}
	return at, err
}
