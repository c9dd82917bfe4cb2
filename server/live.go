package server

import (
	"net/http"

	"github.com/gin-gonic/gin"
)

func (s *Server) liveState() LiveState {
	if s.o.Live == nil {
		return LiveState{Why: "this server was not started with a program to sample"}
	}
	return s.o.Live.State()
}

func (s *Server) startLive(c *gin.Context) {
	if s.o.Live == nil {
		c.AbortWithStatusJSON(http.StatusNotFound, ErrorBody{Error: s.liveState().Why, Remedy: "start it with: make demo"})
		return
	}
	if err := s.o.Live.Start(); err != nil {
		c.AbortWithStatusJSON(http.StatusConflict, ErrorBody{Error: err.Error()})
		return
	}
	c.JSON(http.StatusAccepted, s.o.Live.State())
}

func (s *Server) stopLive(c *gin.Context) {
	if s.o.Live != nil {
		s.o.Live.Stop()
	}
	c.JSON(http.StatusOK, s.liveState())
}
