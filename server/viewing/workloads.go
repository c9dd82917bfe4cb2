package viewing

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"entelon/server/api"
	"entelon/server/request"
	"entelon/store"
)

// WorkloadRoutes answers for what programs were made to do.
type WorkloadRoutes struct{ *request.Server }

// WorkloadOut is a workload as it is told.
func WorkloadOut(w store.WorkloadSummary) api.WorkloadOut {
	out := api.WorkloadOut{ID: w.ID, Name: w.Name, Words: w.Words, Named: w.Named, Takes: w.Takes, Builds: w.Builds, LastAt: shownTime(w.LastAt), Merged: []string{}}
	out.Merged = append(out.Merged, w.Merged...)
	return out
}

// Workloads answers GET /programs/{name}/workloads.
func (s WorkloadRoutes) Workloads(c *gin.Context) {
	ctx, program := c.Request.Context(), c.Param("name")
	list, all, err := s.Store.Workloads(ctx, program)
	if err != nil {
		s.Fail(c, err)
		return
	}
	changes, err := s.Store.WorkloadChanges(ctx, program)
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.WorkloadsOut{Workloads: []api.WorkloadOut{}, Count: all, Changes: []api.WorkloadChangeOut{}}
	for _, w := range list {
		out.Workloads = append(out.Workloads, WorkloadOut(w))
	}
	for _, x := range changes {
		out.Changes = append(out.Changes, api.WorkloadChangeOut{Who: x.Who, What: x.What, At: x.CreatedAt})
	}
	c.JSON(http.StatusOK, out)
}

// change answers with a program's workloads after a change of them.
func (s WorkloadRoutes) change(c *gin.Context, err error) {
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.Workloads(c)
}

// NameWorkload answers PATCH /programs/{name}/workloads/{id}.
func (s WorkloadRoutes) NameWorkload(c *gin.Context) {
	var in api.WorkloadNameIn
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		s.Fail(c, request.Bad(fmt.Errorf("the workload: %q is not a number", c.Param("id"))))
		return
	}
	if err := s.Read(c, &in, "the workload's name"); err != nil {
		s.Fail(c, err)
		return
	}
	s.change(c, s.refused(s.Store.NameWorkload(c.Request.Context(), c.Param("name"), id, in.Name, request.Who(c).Person.Name)))
}

// MergeWorkloads answers POST /programs/{name}/workloads/merge.
func (s WorkloadRoutes) MergeWorkloads(c *gin.Context) {
	var in api.WorkloadsMergeIn
	if err := s.Read(c, &in, "the workloads to merge"); err != nil {
		s.Fail(c, err)
		return
	}
	s.change(c, s.refused(s.Store.MergeWorkloads(c.Request.Context(), c.Param("name"), in.From, in.Into, request.Who(c).Person.Name)))
}

// MoveTakes answers POST /programs/{name}/workloads/move.
func (s WorkloadRoutes) MoveTakes(c *gin.Context) {
	var in api.TakesMoveIn
	if err := s.Read(c, &in, "the takes to move"); err != nil {
		s.Fail(c, err)
		return
	}
	_, err := s.Store.MoveTakes(c.Request.Context(), c.Param("name"), in.Takes, in.Into, in.Name, request.Who(c).Person.Name)
	s.change(c, s.refused(err))
}

// UndoWorkloads answers POST /programs/{name}/workloads/undo.
func (s WorkloadRoutes) UndoWorkloads(c *gin.Context) {
	_, err := s.Store.UndoWorkloads(c.Request.Context(), c.Param("name"))
	if errors.Is(err, store.ErrNoUndo) {
		err = request.Against(err, "nothing has changed")
	}
	s.change(c, err)
}

// refused is the error of a change that cannot be made as it was asked for.
func (s WorkloadRoutes) refused(err error) error {
	var bad store.BadChange
	if errors.As(err, &bad) {
		return request.Bad(bad)
	}
	return err
}
