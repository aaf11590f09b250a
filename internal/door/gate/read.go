package gate

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/strict"
	"steadyferry/internal/engine/part"
)

// ReadJSON reads a small JSON body, refusing fields that do not exist.
func ReadJSON(c *gin.Context, into any) bool { return ReadJSONUpTo(c, MaxJSON, into) }

// ReadJSONUpTo is ReadJSON for bodies of up to so many bytes.
func ReadJSONUpTo(c *gin.Context, most int64, into any) bool {
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, most))
	if err == nil {
		err = strict.Unmarshal(data, into)
	}
	if errors.As(err, new(*http.MaxBytesError)) {
		return !Refuse(c, TooLarge(most))
	}
	if err != nil {
		WriteProblem(c, Invalid("", "the body is not the JSON that is expected: "+err.Error(), "see /api/v1/openapi.json"))
		return false
	}
	return true
}

func IntQuery(c *gin.Context, name string, otherwise, least, most int) (int, bool) {
	text := QueryValue(c.Request.URL.RawQuery, name)
	if text == "" {
		return otherwise, true
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < least || n > most {
		WriteProblem(c, Invalid(name, fmt.Sprintf("%s is %q", name, text), fmt.Sprintf("%d to %d", least, most)))
		return 0, false
	}
	return n, true
}

func BoolQuery(c *gin.Context, name string) bool {
	return c.Query(name) == "true"
}

// QueryValue returns the first value of a parameter, without taking the whole
// query apart as small requests that come in thousands would have to.
func QueryValue(raw, name string) string {
	for pair := range strings.SplitSeq(raw, "&") {
		if n, value, err := unescapePair(pair); err == nil && n == name {
			return value
		}
	}
	return ""
}

// unescapePair splits name=value of a query. A semicolon is refused as net/url
// refuses it, which would leave the pair out.
func unescapePair(pair string) (name, value string, err error) {
	if strings.Contains(pair, ";") {
		return "", "", errors.New("a semicolon stands in it")
	}
	name, value, _ = strings.Cut(pair, "=")
	if name, err = url.QueryUnescape(name); err == nil {
		value, err = url.QueryUnescape(value)
	}
	return name, value, err
}

// DurationOf reads a duration of a body; empty is 0.
func DurationOf(name, text string, most time.Duration) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	d, err := address.ParseDuration(text)
	if err != nil || d < 0 || d > most {
		return 0, Invalid(name, fmt.Sprintf("%s is %q", name, text), "0s to "+address.FormatDuration(most))
	}
	return d, nil
}

func DurationField(name, text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	d, err := address.ParseDuration(text)
	if err != nil {
		return 0, Invalid(name, err.Error(), "")
	}
	return d, nil
}

// TopicOf finds the topic of the path, or answers with the problem.
func (g *Gate) TopicOf(c *gin.Context) (*part.Channel, bool) {
	a, err := ChannelAddress(c)
	if Refuse(c, err) {
		return nil, false
	}
	t, err := g.Node.Parts.Channel(a)
	return t, !Refuse(c, err)
}

// QueueOf finds the queue of the path; GROUP in TOPIC@GROUP is the one with
// the group's dead letters.
func (g *Gate) QueueOf(c *gin.Context) (*part.Channel, bool) {
	a, err := address.Parse(c.Param("space") + "/" + c.Param("channel"))
	if err == nil && a.Kind() != address.KindChannel && a.Kind() != address.KindGroup {
		err = Invalid("address", fmt.Sprintf("%s is the address of a %s", a, a.Kind()), "a queue, or a group for its dead letters")
	}
	if Refuse(c, err) {
		return nil, false
	}
	t, err := g.Node.Queues.At(a)
	return t, !Refuse(c, err)
}

// ChannelOf finds the channel of the path; TOPIC@GROUP is the queue with the
// group's dead letters.
func (g *Gate) ChannelOf(c *gin.Context) (*part.Channel, bool) {
	a, err := address.Parse(c.Param("space") + "/" + c.Param("channel"))
	var t *part.Channel
	if err == nil && a.Group != "" {
		t, err = g.Node.Queues.At(a)
	} else if err == nil {
		t, err = g.Node.Parts.Channel(a)
	}
	return t, !Refuse(c, err)
}

// ChannelAddress reads the address from the path.
func ChannelAddress(c *gin.Context) (address.Address, error) {
	return address.ParseChannel(c.Param("space") + "/" + c.Param("channel"))
}

// NumberParam is the number that a parameter of the path is, from 1; else the request is answered.
func NumberParam(c *gin.Context, name string) (int64, bool) {
	n, err := strconv.ParseInt(c.Param(name), 10, 64)
	if err != nil || n < 1 {
		WriteProblem(c, Invalid(name, fmt.Sprintf("%s is %q", name, c.Param(name)), "a whole number from 1"))
		return 0, false
	}
	return n, true
}
