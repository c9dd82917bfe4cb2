package server

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"entelon/server/api"
	"entelon/store"
)

// workloadRoutes answers for what programs were made to do.
type workloadRoutes struct{ *Server }

func workloadOut(w store.WorkloadSummary) api.WorkloadOut {
	out := api.WorkloadOut{ID: w.ID, Name: w.Name, Words: w.Words, Named: w.Named, Takes: w.Takes, Builds: w.Builds, LastAt: shownTime(w.LastAt), Merged: []string{}}
	out.Merged = append(out.Merged, w.Merged...)
	return out
}

func (s workloadRoutes) workloads(c *gin.Context) {
	ctx, program := c.Request.Context(), c.Param("name")
	list, all, err := s.store.Workloads(ctx, program)
	if err != nil {
		s.fail(c, err)
		return
	}
	changes, err := s.store.WorkloadChanges(ctx, program)
	if err != nil {
		s.fail(c, err)
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
		s.fail(c, err)
		return
	}
	s.workloads(c)
}

func (s workloadRoutes) nameWorkload(c *gin.Context) {
	var in api.WorkloadNameIn
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		s.fail(c, badRequest{fmt.Errorf("the workload: %q is not a number", c.Param("id"))})
		return
	}
	if err := s.read(c, &in, "the workload's name"); err != nil {
		s.fail(c, err)
		return
	}
	s.change(c, s.refused(s.store.NameWorkload(c.Request.Context(), c.Param("name"), id, in.Name, who(c).person.Name)))
}

func (s workloadRoutes) mergeWorkloads(c *gin.Context) {
	var in api.WorkloadsMergeIn
	if err := s.read(c, &in, "the workloads to merge"); err != nil {
		s.fail(c, err)
		return
	}
	s.change(c, s.refused(s.store.MergeWorkloads(c.Request.Context(), c.Param("name"), in.From, in.Into, who(c).person.Name)))
}

func (s workloadRoutes) moveTakes(c *gin.Context) {
	var in api.TakesMoveIn
	if err := s.read(c, &in, "the takes to move"); err != nil {
		s.fail(c, err)
		return
	}
	_, err := s.store.MoveTakes(c.Request.Context(), c.Param("name"), in.Takes, in.Into, in.Name, who(c).person.Name)
	s.change(c, s.refused(err))
}

func (s workloadRoutes) undoWorkloads(c *gin.Context) {
	_, err := s.store.UndoWorkloads(c.Request.Context(), c.Param("name"))
	if errors.Is(err, store.ErrNoUndo) {
		err = conflict{err, "nothing has changed"}
	}
	s.change(c, err)
}

// refused is the error of a change that cannot be made as it was asked for.
func (s workloadRoutes) refused(err error) error {
	var bad store.BadChange
	if errors.As(err, &bad) {
		return badRequest{bad}
	}
	return err
}
