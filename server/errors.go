package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/store"
)

// ProblemDetails is an RFC 9457 problem with what Dravin has to say beyond it.
type ProblemDetails struct {
	Type     string           `json:"type" doc:"Always about:blank; status and code tell the class."`
	Code     ProblemCode      `json:"code" doc:"What it is, stable."`
	Title    string           `json:"title"`
	Status   int              `json:"status"`
	Detail   string           `json:"detail"`
	Errors   []design.Problem `json:"errors,omitempty" doc:"Each with the place in the request or file."`
	Position *int64           `json:"position,omitempty" doc:"409: where the design is now."`
	Since    []store.Change   `json:"since,omitempty" doc:"409: what changed meanwhile."`
}

// ProblemCode names what is wrong with a request, or with who should do it.
type ProblemCode string

// The codes.
const (
	Unfit       ProblemCode = "unfit"       // not as it must be: errors say where and why
	Missing     ProblemCode = "missing"     // what it is about is not there, or no more
	Conflicting ProblemCode = "conflicting" // somebody else has written meanwhile, or there is nothing to do
	Unavailable ProblemCode = "unavailable" // it can not be done now; try again
	NotAllowed  ProblemCode = "not-allowed" // who asks, or how it is asked, is not let in
	TooMuch     ProblemCode = "too-much"    // it is larger, or more often, than is taken
)

// ProblemCodes are all codes.
var ProblemCodes = []ProblemCode{Unfit, Missing, Conflicting, Unavailable, NotAllowed, TooMuch}

// codeFor is the code of a status.
func codeFor(status int) ProblemCode {
	switch status {
	case http.StatusNotFound, http.StatusGone:
		return Missing
	case http.StatusConflict:
		return Conflicting
	case http.StatusServiceUnavailable, http.StatusInternalServerError, http.StatusGatewayTimeout:
		return Unavailable
	case http.StatusForbidden, http.StatusMisdirectedRequest, http.StatusMethodNotAllowed, http.StatusUnauthorized:
		return NotAllowed
	case http.StatusRequestEntityTooLarge, http.StatusTooManyRequests:
		return TooMuch
	}
	return Unfit
}

// problemOf is a problem of a status in words.
func problemOf(status int, detail string, errs ...design.Problem) *ProblemDetails {
	return &ProblemDetails{
		Type: "about:blank", Code: codeFor(status), Title: http.StatusText(status), Status: status, Detail: detail,
		Errors: errs,
	}
}

func (p *ProblemDetails) Error() string { return p.Detail }

// GetStatus is for huma.
func (p *ProblemDetails) GetStatus() int { return p.Status }

// ContentType is for huma (RFC 9457 section 3).
func (p *ProblemDetails) ContentType(string) string { return "application/problem+json" }

// newError gives huma's own errors our form.
func newError(status int, message string, errs ...error) huma.StatusError {
	p := problemOf(status, message)
	for _, err := range errs {
		var own *ProblemDetails
		var detail *huma.ErrorDetail
		switch {
		case errors.As(err, &own):
			return own
		case errors.As(err, &detail):
			p.Errors = append(
				p.Errors, design.Problem{Field: strings.TrimPrefix(detail.Location, "body."), Why: detail.Message},
			)
		case err != nil:
			p.Errors = append(p.Errors, design.Problem{Why: err.Error()})
		}
	}
	return p
}

// failed turns any error of the core or the store into an answer.
func (s *Server) failed(err error) *ProblemDetails {
	var own *ProblemDetails
	if errors.As(err, &own) { // it is an answer already
		return own
	}
	var problems design.Problems
	var conflict *store.Conflict
	var unavailable *store.Unavailable
	var closed *store.Closed
	p := &ProblemDetails{Type: "about:blank", Detail: err.Error()}
	switch {
	case errors.As(err, &problems):
		p.Status, p.Errors = http.StatusUnprocessableEntity, problems
		p.Detail = problems[0].String()
		if n := len(problems) - 1; n > 0 {
			p.Detail += fmt.Sprintf(" (and %d more)", n)
		}
	case errors.As(err, &conflict):
		p.Status, p.Position, p.Since = http.StatusConflict, &conflict.Position, conflict.Since
	case errors.Is(err, store.ErrNotFound), errors.Is(err, store.ErrNoRehearsal):
		p.Status = http.StatusNotFound
	case errors.Is(err, store.ErrNothing):
		p.Status = http.StatusConflict
	case errors.As(err, &unavailable):
		s.log.Warn("unavailable", "error", err, "cause", unavailable.Err)
		p.Status = http.StatusServiceUnavailable
	case errors.As(err, &closed):
		p.Status = http.StatusServiceUnavailable
	case errors.Is(err, context.Canceled):
		p.Status, p.Detail = http.StatusServiceUnavailable, "the request was broken off"
	default:
		s.log.Error("request failed", "error", err)
		p.Status, p.Detail = http.StatusServiceUnavailable, "the database did not do it; try again, and look at the "+
			"server's log if it stays so"
	}
	p.Title, p.Code = http.StatusText(p.Status), codeFor(p.Status)
	return p
}

// refused is the caller's mistake in one field.
func refused(field, why string) error {
	return problemOf(http.StatusUnprocessableEntity, why, design.Problem{Field: field, Why: why})
}

// missing is what a field names and is not there.
func missing(field, why string) error {
	return problemOf(http.StatusNotFound, why, design.Problem{Field: field, Why: why})
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// isLine refuses what no ID is.
func isLine(id string) bool { return len(id) <= design.MaxID && design.IsLine(id) }
