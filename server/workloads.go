package server

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

// workloadRoutes answers for what programs were made to do.
type workloadRoutes struct{ *request.Server }

func workloadOut(w store.WorkloadSummary) api.WorkloadOut {
	out := api.WorkloadOut{ID: w.ID, Name: w.Name, Words: w.Words, Named: w.Named, Takes: w.Takes, Builds: w.Builds, LastAt: shownTime(w.LastAt), Merged: []string{}}
	out.Merged = append(out.Merged, w.Merged...)
	return out
}

func (s workloadRoutes) workloads(c *gin.Context) {
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
		out.Workloads = append(out.Workloads, workloadOut(w))
	}
	for _, x := range changes {
		out.Changes = append(out.Changes, api.WorkloadChangeOut{Who: x.Who, What: x.What, At: x.CreatedAt})
	}
	c.JSON(http.StatusOK, out)
}

// change answers with a program's workloads after a change of them.
func (s workloadRoutes) change(c *gin.Context, err error) {
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.workloads(c)
}

func (s workloadRoutes) nameWorkload(c *gin.Context) {
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

func (s workloadRoutes) mergeWorkloads(c *gin.Context) {
	var in api.WorkloadsMergeIn
	if err := s.Read(c, &in, "the workloads to merge"); err != nil {
		s.Fail(c, err)
		return
	}
	s.change(c, s.refused(s.Store.MergeWorkloads(c.Request.Context(), c.Param("name"), in.From, in.Into, request.Who(c).Person.Name)))
}

func (s workloadRoutes) moveTakes(c *gin.Context) {
	var in api.TakesMoveIn
	if err := s.Read(c, &in, "the takes to move"); err != nil {
		s.Fail(c, err)
		return
	}
	_, err := s.Store.MoveTakes(c.Request.Context(), c.Param("name"), in.Takes, in.Into, in.Name, request.Who(c).Person.Name)
	s.change(c, s.refused(err))
}

func (s workloadRoutes) undoWorkloads(c *gin.Context) {
	_, err := s.Store.UndoWorkloads(c.Request.Context(), c.Param("name"))
	if errors.Is(err, store.ErrNoUndo) {
		err = request.Against(err, "nothing has changed")
	}
	s.change(c, err)
}

// refused is the error of a change that cannot be made as it was asked for.
func (s workloadRoutes) refused(err error) error {
	var bad store.BadChange
	if errors.As(err, &bad) {
		return request.Bad(bad)
	}
	return err
}
