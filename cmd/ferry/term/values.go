package term

import (
	"flag"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/address"
)

// Flags whose values are written as everywhere in the product. Each keeps
// whether it was given, so that what was not stays as it is.

// DurationValue is a duration, written 1h30m or 3d.
type DurationValue struct{ D *time.Duration }

func (v DurationValue) String() string {
	if v.D == nil || *v.D == 0 {
		return ""
	}
	return address.FormatDuration(*v.D)
}

func (v DurationValue) Set(s string) (err error) {
	*v.D, err = address.ParseDuration(s)
	return err
}

// PositionValue is a position as people type it, kept as the service reads it.
type PositionValue struct{ To *string }

func (v PositionValue) String() string {
	if v.To == nil {
		return ""
	}
	return *v.To
}

func (v PositionValue) Set(s string) error {
	p, err := address.ParseTyped(s, Now())
	if err == nil {
		*v.To = p.String()
	}
	return err
}

// PositionFlag defines a flag of a position.
func PositionFlag(fs *flag.FlagSet, to *string, name, fallback, usage string) {
	*to = fallback
	fs.Var(PositionValue{to}, name, usage)
}

// Preview is the query of a request that does what it says, or with true only
// tells what it would do.
func Preview(on bool) url.Values { return url.Values{"preview": {strconv.FormatBool(on)}} }

// PairsValue gathers name=value.
type PairsValue map[string]string

func (v PairsValue) String() string { return "" }

func (v PairsValue) Set(s string) error {
	name, value, ok := strings.Cut(s, "=")
	if !ok || name == "" {
		return fmt.Errorf("%q is not NAME=VALUE", s)
	}
	v[name] = value
	return nil
}

// Names returns the names in order.
func (v PairsValue) Names() []string { return slices.Sorted(maps.Keys(v)) }

// ListValue gathers whole numbers, given one by one or with commas.
type ListValue struct{ Numbers *[]int }

func (v ListValue) String() string { return "" }

func (v ListValue) Set(s string) error {
	for part := range strings.SplitSeq(s, ",") {
		n, err := strconv.Atoi(part)
		if err != nil || n < 0 {
			return fmt.Errorf("%q is not a partition's number", part)
		}
		*v.Numbers = append(*v.Numbers, n)
	}
	return nil
}

// RateValue is a number per second, written 200/s or 200.
type RateValue struct{ PerSecond *float64 }

func (v RateValue) String() string {
	if v.PerSecond == nil || *v.PerSecond == 0 {
		return ""
	}
	return strconv.FormatFloat(*v.PerSecond, 'f', -1, 64) + "/s"
}

func (v RateValue) Set(s string) error {
	f, err := strconv.ParseFloat(strings.TrimSuffix(s, "/s"), 64)
	if err != nil || !(f > 0) {
		return fmt.Errorf("%q is not a rate such as 200/s", s)
	}
	*v.PerSecond = f
	return nil
}

// OneAddress reads the one address that a verb takes.
func (c *Call) OneAddress() (address.Address, error) {
	if len(c.Args) != 1 {
		return address.Address{}, WrongUsage("one address is expected, and there are %d", len(c.Args))
	}
	a, err := address.Parse(c.Args[0])
	if err != nil {
		return a, &usageError{err}
	}
	return a, nil
}

// OneChannel reads the one channel that a verb takes.
func (c *Call) OneChannel() (address.Address, error) {
	a, err := c.OneAddress()
	if err == nil && a.Kind() != address.KindChannel {
		err = WrongUsage("%s is the address of a %s; a channel is expected, such as coldchain/readings", a, a.Kind())
	}
	return a, err
}

// EveryFlag adds -every.
func EveryFlag(fs *flag.FlagSet) *time.Duration {
	d := new(time.Duration)
	fs.Var(DurationValue{d}, "every", "show it again and again, after each `DURATION`, such as 1s")
	return d
}

// OneQueue reads the only address: a queue, a group, or the dead letters of
// either. partition and message are cut off.
func (c *Call) OneQueue() (address.Address, error) {
	a, err := c.OneAddress()
	if err != nil {
		return a, err
	}
	switch a.Kind() {
	case address.KindSpace:
		return a, WrongUsage("%s is the address of a space; a queue is expected", a)
	case address.KindDead:
		a.Dead = false
	}
	return a, nil
}

// LiveQueue is a queue whose messages are leased. Its dead letters are not
// meant: they go back to the queue, or elsewhere, before anybody works on them.
func (c *Call) LiveQueue() (address.Address, error) {
	a, err := c.OneQueue()
	if err == nil && strings.HasSuffix(c.Args[0], "/dead") {
		return a, WrongUsage("%s are dead letters, which are not leased: ferry dead shows them, ferry replay %s -to QUEUE sends them to a queue, where a program can lease them", c.Args[0], c.Args[0])
	}
	return a, err
}

// OneGroup reads the one group that a verb takes.
func (c *Call) OneGroup() (address.Address, error) {
	a, err := c.OneAddress()
	if err == nil && a.Kind() != address.KindGroup {
		err = WrongUsage("%s is the address of a %s; a group is expected, such as coldchain/readings@compliance", a, a.Kind())
	}
	return a, err
}
