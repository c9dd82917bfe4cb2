package viewing

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"

	"entelon/codec"
	"entelon/core/profile"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/store"
)

// NoteRoutes answers for what people write on takes, and what they pin.
type NoteRoutes struct{ *request.Server }

// longestNote bounds a note, in bytes.
const longestNote = 64 << 10

// markdown leaves HTML out that stands in a note, and links that are no links
// of the web, so that what it makes is safe to show.
var markdown = goldmark.New(goldmark.WithExtensions(extension.Table, extension.Strikethrough, extension.Linkify, extension.TaskList))

func rendered(text string) (string, error) {
	var b bytes.Buffer
	if err := markdown.Convert([]byte(text), &b); err != nil {
		return "", fmt.Errorf("reading a note: %w", err)
	}
	return b.String(), nil
}

func remarkOut(n *store.Remark) (api.RemarkOut, error) {
	html, err := rendered(n.Text)
	return api.RemarkOut{ID: n.ID, Function: n.Function, Short: profile.Short(n.Function), Text: n.Text, HTML: html, Who: n.Who, Settled: n.SettledAt != nil, CreatedAt: n.CreatedAt.UTC().Format(time.RFC3339), UpdatedAt: n.UpdatedAt.UTC().Format(time.RFC3339)}, err
}

// Notes answers GET /takes/{key}/notes.
func (s NoteRoutes) Notes(c *gin.Context) {
	row, err := s.Store.Take(c.Request.Context(), c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	list, err := s.Store.Notes(c.Request.Context(), row)
	out := api.RemarksOut{Notes: []api.RemarkOut{}}
	for i := range list {
		if err != nil {
			break
		}
		var n api.RemarkOut
		n, err = remarkOut(&list[i])
		out.Notes = append(out.Notes, n)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// remarkIn reads a note.
func (s NoteRoutes) remarkIn(c *gin.Context) (in api.RemarkIn, err error) {
	if err = s.Read(c, &in, "the note"); err != nil {
		return in, err
	}
	if strings.TrimSpace(in.Text) == "" {
		err = errors.New("it is empty")
	}
	if err == nil && (len(in.Text) > longestNote || len(in.Function) > 16<<10) {
		err = fmt.Errorf("it is longer than %d kB", longestNote>>10)
	}
	if err != nil {
		err = request.Bad(fmt.Errorf("the note: %w", err))
	}
	return in, err
}

// AddNote answers POST /takes/{key}/notes.
func (s NoteRoutes) AddNote(c *gin.Context) {
	in, err := s.remarkIn(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	row, err := s.Store.Take(c.Request.Context(), c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	n, err := s.Store.AddNote(c.Request.Context(), row, in.Function, in.Text, request.Who(c).Person.Name)
	s.answerNote(c, http.StatusCreated, n, err)
}

func (s NoteRoutes) answerNote(c *gin.Context, status int, n *store.Remark, err error) {
	var out api.RemarkOut
	if err == nil {
		out, err = remarkOut(n)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(status, out)
}

// ChangeNote answers PATCH /notes/{id}.
func (s NoteRoutes) ChangeNote(c *gin.Context) {
	in, err := s.remarkIn(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	id, err := request.IDOf(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	n, err := s.Store.ChangeNote(c.Request.Context(), id, in.Text)
	s.answerNote(c, http.StatusOK, n, err)
}

// SettleNote answers PUT /notes/{id}/settled.
func (s NoteRoutes) SettleNote(c *gin.Context) {
	var in api.SettledIn
	err := s.Read(c, &in, "whether the note is settled")
	id, idErr := request.IDOf(c)
	if err = cmp.Or(err, idErr); err != nil {
		s.Fail(c, err)
		return
	}
	n, err := s.Store.SettleNote(c.Request.Context(), id, in.Settled)
	s.answerNote(c, http.StatusOK, n, err)
}

// RemoveNote answers DELETE /notes/{id}.
func (s NoteRoutes) RemoveNote(c *gin.Context) {
	id, err := request.IDOf(c)
	if err == nil {
		err = s.Store.RemoveNote(c.Request.Context(), id)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// reportNotes are the notes of a take for its report.
func (s NoteRoutes) reportNotes(c *gin.Context, row *store.Take) ([]codec.Note, error) {
	list, err := s.Store.Notes(c.Request.Context(), row)
	if err != nil {
		return nil, err
	}
	var out []codec.Note
	for _, n := range list {
		html, err := rendered(n.Text)
		if err != nil {
			return nil, err
		}
		out = append(out, codec.Note{On: profile.Short(n.Function), HTML: template.HTML(html)})
	}
	return out, nil
}

// Pins answers GET /programs/{name}/pins.
func (s NoteRoutes) Pins(c *gin.Context) {
	list, err := s.Store.Pins(c.Request.Context(), c.Param("name"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.PinsOut{Functions: []string{}}
	for _, p := range list {
		out.Functions = append(out.Functions, p.Function)
	}
	c.JSON(http.StatusOK, out)
}

// SetPin answers POST /programs/{name}/pins.
func (s NoteRoutes) SetPin(c *gin.Context) {
	var in api.PinIn
	err := s.Read(c, &in, "the pin")
	if err == nil && (in.Function == "" || len(in.Function) > 16<<10) {
		err = request.Bad(errors.New("the pin: name a function"))
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	if err := s.Store.SetPin(c.Request.Context(), c.Param("name"), in.Function, request.Who(c).Person.Name, in.On); err != nil {
		s.Fail(c, err)
		return
	}
	s.Pins(c)
}
