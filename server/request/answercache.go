package request

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/server/keep"
	"entelon/store"
)

// Takes never change, so that the same question about one has the same answer. It
// is worked out once, however many ask, and kept as long as there is memory.

const rowKey = "take"

// takeRow finds the take of a request, once.
func (s *Server) takeRow(c *gin.Context, key string) (*store.Take, error) {
	if x, ok := c.Get(rowKey); ok {
		if row := x.(*store.Take); row.Key == key {
			return row, nil
		}
	}
	row, err := s.Store.Take(c.Request.Context(), key)
	if err == nil {
		c.Set(rowKey, row)
	}
	return row, err
}

// answer is an answer that was worked out.
type answer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *answer) Header() http.Header         { return a.header }
func (a *answer) WriteHeader(status int)      { a.status = status }
func (a *answer) Write(b []byte) (int, error) { return a.body.Write(b) }

// failed is an answer that says no; it is told to who asked, and not kept.
type failed struct{ *answer }

func (failed) Error() string { return "an answer that says no" }

// Same has a question about a take answered once. also says what the answer
// depends on besides the take and the question, "" for nothing.
func (s *Server) Same(handle gin.HandlerFunc, also func(*gin.Context, *store.Take) (string, error)) gin.HandlerFunc {
	return func(c *gin.Context) {
		if strings.HasPrefix(c.Param("key"), JobPrefix) { // it grows
			handle(c)
			return
		}
		row, err := s.takeRow(c, c.Param("key"))
		more := ""
		if err == nil && also != nil {
			more, err = also(c, row)
		}
		var query url.Values
		if err == nil {
			query, err = url.ParseQuery(c.Request.URL.RawQuery)
		}
		if err != nil {
			s.Fail(c, err)
			return
		}
		key := strings.Join([]string{keyAnswer, row.Digest, row.Program.Name, row.Build.Name, c.FullPath(), query.Encode(), more}, "\x00")
		// The work may outlive this request, whose own context is then another's.
		name, params, request := s.asker(c), slices.Clone(c.Params), c.Request
		x, err := s.Keep.Get(c.Request.Context(), key, expectedAnswer, func(ctx context.Context, _ *keep.Item) (any, int64, error) {
			leave, err := s.Gates[Heavy].Enter(ctx, name)
			if err != nil {
				return nil, 0, err
			}
			defer leave()
			a := &answer{header: http.Header{}, status: http.StatusOK}
			own := gin.CreateTestContextOnly(a, s.Engine)
			own.Params, own.Request = params, request.Clone(ctx)
			own.Set(rowKey, row)
			mine := &Held{}
			own.Set(HeldKey, mine)
			defer mine.Release()
			if handle(own); own.Writer.Status() != http.StatusOK {
				a.status = own.Writer.Status()
				if err := ctx.Err(); err != nil {
					return nil, 0, err
				}
				return nil, 0, failed{a}
			}
			return a, int64(a.body.Len()) + 512, nil
		})
		var no failed
		switch {
		case errors.As(err, &no):
			no.write(c)
		case err != nil:
			s.Fail(c, err)
		default:
			x.Value().(*answer).write(c)
			x.Release()
		}
	}
}

// expectedAnswer is how many bytes an answer is thought to have before it is there.
const expectedAnswer = 256 << 10

func (a *answer) write(c *gin.Context) {
	for name, values := range a.header {
		c.Writer.Header()[name] = values
	}
	c.Data(a.status, a.header.Get("Content-Type"), a.body.Bytes())
}
