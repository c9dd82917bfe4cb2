package request

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/codec"
	"entelon/codec/take"
	"entelon/core/measure"
	"entelon/server/api"
	"entelon/server/gate"
	"entelon/server/keep"
	"entelon/store/accounts"
	"entelon/store/database"
	"entelon/store/jobs"
)

// Fail answers with the error's own words.
func (s *Server) Fail(c *gin.Context, err error) {
	status, body := http.StatusInternalServerError, api.ErrorBody{Error: err.Error()}
	var broken *take.Error
	var bad badRequest
	var tooMuch *http.MaxBytesError
	var gone missing
	var against conflict
	switch {
	case errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil:
		status = 499 // the client has gone; nobody reads this
	case errors.Is(err, errSlow):
		status, body.Remedy = http.StatusRequestTimeout, "send it over a faster connection"
	case errors.As(err, &tooMuch):
		status, body.Error, body.Remedy = http.StatusRequestEntityTooLarge, fmt.Sprintf("more was sent than the %s that are taken here", measure.Amount(tooMuch.Limit, "bytes")), "send less at a time"
		if tooMuch.Limit == s.Options.MaxUpload {
			body.Error = fmt.Sprintf("the upload is larger than the %s that this server takes", measure.Amount(tooMuch.Limit, "bytes"))
			body.Remedy = "collect for a shorter time or at a lower rate, or raise --max-upload"
		}
	case errors.As(err, &bad):
		status = http.StatusBadRequest
	case errors.As(err, &gone):
		status, body.Remedy = http.StatusNotFound, gone.remedy
	case errors.As(err, &against):
		status, body.Remedy = http.StatusConflict, against.remedy
	case errors.Is(err, jobs.ErrCollectorKnown):
		status, body.Remedy = http.StatusConflict, "choose another name, or remove that collector first"
	case errors.As(err, &broken):
		status, body.Remedy = http.StatusUnprocessableEntity, broken.Remedy()
		if broken.Reason == take.TooLarge {
			status = http.StatusRequestEntityTooLarge
		}
	case errors.Is(err, database.ErrTooLarge):
		status, body.Remedy = http.StatusRequestEntityTooLarge, "collect for a shorter time or at a lower rate"
	case diskFull(err):
		status, body.Error, body.Remedy = http.StatusInsufficientStorage, "the database's disk is full; nothing was changed", "make room on the disk of PostgreSQL's data folder"
		s.Options.Log.Error("the database's disk is full", "error", err)
	case errors.As(err, new(full)):
		status, body.Remedy = http.StatusInsufficientStorage, "remove takes that nobody needs, or raise --max-disk"
	case errors.Is(err, codec.ErrTooLarge):
		status, body.Remedy = http.StatusRequestEntityTooLarge, "narrow the scope, or write them with: entelon stacks FILE"
	case errors.Is(err, keep.ErrTooLarge):
		status, body.Remedy = http.StatusRequestEntityTooLarge, "compare fewer takes, or give the server more with --memory"
	case errors.Is(err, keep.ErrBusy):
		c.Header("Retry-After", "5")
		status, body.Remedy = http.StatusServiceUnavailable, "try again in a few seconds"
	case errors.Is(err, gate.ErrTooMany):
		c.Header("Retry-After", "2")
		status, body.Remedy = http.StatusTooManyRequests, "wait for them to be answered"
	case errors.Is(err, gate.ErrLate):
		c.Header("Retry-After", "5")
		status, body.Remedy = http.StatusServiceUnavailable, "try again in a few seconds"
	case errors.As(err, new(tooMany)):
		status, body.Remedy = http.StatusTooManyRequests, "wait for one to end, or stop one"
	case errors.As(err, new(unavailable)):
		status, body.Remedy = http.StatusServiceUnavailable, "the Machines page lists the collectors"
	case errors.Is(err, accounts.ErrNameTaken):
		status, body.Remedy = http.StatusConflict, "choose another name"
	case errors.Is(err, accounts.ErrLastOwner):
		status, body.Remedy = http.StatusConflict, "let somebody else manage people first"
	case errors.Is(err, database.ErrNotFound):
		status, body.Remedy = http.StatusNotFound, whereToLook(err)
	case errors.Is(err, database.ErrUnreachable):
		status, body.Remedy = http.StatusServiceUnavailable, "see whether PostgreSQL runs at that address; nothing was changed"
		if s.silence.over(10 * time.Second) {
			s.Options.Log.Error("the database does not answer", "error", err)
		}
		body.Error = firstWords(err)
	default:
		s.Options.Log.Error("a request failed", "id", c.GetString(requestKey), "path", c.Request.URL.Path, "error", err)
	}
	body.Error = strings.ReplaceAll(body.Error, "\n", "; ")
	c.AbortWithStatusJSON(status, body)
}

// whereToLook says what to do about something that there is not.
func whereToLook(err error) string {
	var gone database.NotFound
	errors.As(err, &gone)
	switch gone.What {
	case "take", "program":
		return "it may have been removed; look it up in the list of " + gone.What + "s"
	case "job":
		return "it may have been cleaned up; its take is in the list of takes"
	case "collector":
		return "the Machines page lists them"
	case "link":
		return "ask for a new one; each works once, and only for a while"
	}
	return "it may have been removed meanwhile"
}

// firstWords leaves the driver's details of an unreachable database to the log.
func firstWords(err error) string {
	s := err.Error()
	if i := strings.Index(s, database.ErrUnreachable.Error()); i >= 0 {
		if line, _, ok := strings.Cut(s[i:], ": "); ok {
			return line
		}
		return s[i:]
	}
	return s
}

// badRequest is a question that cannot be answered as it was put.
type badRequest struct{ error }

// missing is something that there is not; conflict what cannot be done as things
// stand. Both know what to do about it.
type (
	missing struct {
		error
		remedy string
	}
	conflict struct {
		error
		remedy string
	}
)

// tooMany is a refusal because of what is going on already.
type tooMany struct{ error }

// unavailable is something that is missing for now.
type unavailable struct{ error }

// Bad is the error about a question that cannot be answered as it was put.
func Bad(err error) error { return badRequest{err} }

// NotThere is the error about something that there is not.
func NotThere(err error, remedy string) error { return missing{err, remedy} }

// Against is the error about what cannot be done as things are.
func Against(err error, remedy string) error { return conflict{err, remedy} }

// Busy is a refusal because of what is going on already.
func Busy(err error) error { return tooMany{err} }

// NotNow is the error about something that is missing for now.
func NotNow(err error) error { return unavailable{err} }
