package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/http"
	"os"
	"strconv"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
)

var statusOf = map[problem.Kind]int{
	problem.Refused: http.StatusForbidden, problem.SignInAgain: http.StatusForbidden, problem.Second: http.StatusForbidden, problem.Invalid: http.StatusBadRequest, problem.NotFound: http.StatusNotFound, problem.Conflict: http.StatusConflict,
	problem.Paused: http.StatusConflict, problem.TooLarge: http.StatusRequestEntityTooLarge, problem.DiskFull: http.StatusInsufficientStorage, problem.NoRoom: http.StatusInsufficientStorage, problem.TooFast: http.StatusTooManyRequests,
	problem.CatalogAway: http.StatusServiceUnavailable, problem.Unavailable: http.StatusServiceUnavailable, problem.NoMajority: http.StatusServiceUnavailable, problem.Gone: http.StatusGone,
	problem.Damaged: http.StatusUnprocessableEntity, problem.NoMember: http.StatusConflict, problem.NotHeld: http.StatusConflict, problem.OldRound: http.StatusConflict,
	problem.NotYet: http.StatusNotImplemented,
}

var titleOf = map[problem.Kind]string{
	problem.Refused: "You may not do that", problem.SignInAgain: "Sign in again", problem.Second: "It takes a second person", problem.Invalid: "Something in the request is wrong", problem.NotFound: "It does not exist", problem.Conflict: "It does not go with what is there",
	problem.Paused: "The channel is paused", problem.TooLarge: "It is too large", problem.DiskFull: "The disk is full", problem.NoRoom: "The space has no room", problem.TooFast: "Too much at once",
	problem.CatalogAway: "The catalog is away", problem.Unavailable: "It cannot be served now", problem.NoMajority: "Too few replicas answer", problem.Gone: "Retention has passed it",
	problem.Damaged: "It is damaged on disk", problem.NoMember: "The group has no such member", problem.NotHeld: "The member does not hold the partition",
	problem.OldRound: "The share is another one now", problem.NotYet: "It is not there yet",
}

// ProblemOf turns any error into what the client is told.
func ProblemOf(err error) *form.Problem {
	var p *form.Problem
	if errors.As(err, &p) {
		return p
	}
	var np *problem.Problem
	if errors.As(err, &np) {
		return &form.Problem{Type: "urn:steady-ferry:problem:" + string(np.Kind), Title: titleOf[np.Kind], Status: statusOf[np.Kind],
			Detail: np.Detail, Field: np.Of, Allowed: np.Range, Next: np.Then, RetryAfter: int(math.Ceil(np.After.Seconds()))}
	}
	var full *admit.Full
	if errors.As(err, &full) {
		p := &form.Problem{Type: "urn:steady-ferry:problem:busy", Title: "Too much at once", Status: http.StatusTooManyRequests, Detail: full.Error(),
			RetryAfter: int(math.Ceil(full.Retry.Seconds()))}
		p.Next = fmt.Sprintf("try again in %ds", p.RetryAfter)
		return p
	}
	var ce *expr.Error
	if errors.As(err, &ce) {
		return &form.Problem{Type: "urn:steady-ferry:problem:condition", Title: "The condition does not compile", Status: http.StatusBadRequest,
			Detail: fmt.Sprintf("condition, column %d: %s", ce.Column, ce.Problem), Field: "where", Column: ce.Column, Next: ce.Hint}
	}
	var ev *cloudevent.Error
	if errors.As(err, &ev) {
		return Invalid(ev.Field, err.Error(), ev.Allowed)
	}
	var ae *address.Error
	if errors.As(err, &ae) {
		return &form.Problem{Type: "urn:steady-ferry:problem:invalid", Title: titleOf[problem.Invalid], Status: http.StatusBadRequest,
			Detail: fmt.Sprintf("%q: %s", ae.Text, ae.Problem), Allowed: ae.Allowed}
	}
	if errors.Is(err, catalog.ErrAway) {
		return &form.Problem{Type: "urn:steady-ferry:problem:catalog-away", Title: titleOf[problem.CatalogAway], Status: http.StatusServiceUnavailable,
			Detail: catalog.ErrAway.Error(), Next: "publishing and reading go on; try again when it is back"}
	}
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) {
		return &form.Problem{Status: http.StatusRequestTimeout, Title: "Time is up", Detail: "the request took longer than it may", Next: "try again"}
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, io.ErrUnexpectedEOF) {
		return &form.Problem{Status: http.StatusBadRequest, Title: "The request ended early", Detail: "the request was cut off"}
	}
	slog.Error("a request failed", "error", err)
	return &form.Problem{Status: http.StatusInternalServerError, Title: "Internal error", Detail: "the service could not do it; its log tells why"}
}

func WriteProblem(c *gin.Context, p *form.Problem) {
	c.Abort()
	c.Set(problemKey, p)
	if c.Writer.Written() {
		return
	}
	if p.Type == "" {
		p.Type = "about:blank"
	}
	b, err := json.Marshal(p)
	if err != nil {
		panic(err) // plain fields
	}
	c.Writer.Header().Set("Content-Type", form.ProblemType) // a stream may have set its own
	if p.RetryAfter > 0 {
		c.Writer.Header().Set("Retry-After", strconv.Itoa(p.RetryAfter))
	}
	c.Data(p.Status, form.ProblemType, b)
}

// Refuse answers with an error; it reports whether there was one.
func Refuse(c *gin.Context, err error) bool {
	if err == nil {
		return false
	}
	var refused *access.RefusedError
	if errors.As(err, &refused) {
		c.Set(refusedKey, refused)
	}
	var second *access.SecondError
	if errors.As(err, &second) {
		err = askSecond(c, second)
	}
	WriteProblem(c, ProblemOf(err))
	return true
}

func Invalid(field, detail, allowed string) *form.Problem {
	return &form.Problem{Type: "urn:steady-ferry:problem:invalid", Title: titleOf[problem.Invalid], Status: http.StatusBadRequest, Detail: detail, Field: field, Allowed: allowed}
}

func TooLarge(limit int64) error {
	return problem.New(problem.TooLarge, "the request has more than %d bytes", limit)
}
