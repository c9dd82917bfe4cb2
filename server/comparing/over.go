package comparing

import (
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
	"entelon/server/api"
)

// Over follows one function through all builds of a program.
func (s LedgerRoutes) Over(c *gin.Context) {
	ctx := c.Request.Context()
	name := c.Query("name")
	by, err := s.ledgerBy(c, c.Param("name"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	figures, err := s.Store.FunctionFigures(ctx, by.takes, name)
	if err != nil {
		s.Fail(c, err)
		return
	}
	if len(figures) == 0 {
		c.AbortWithStatusJSON(http.StatusNotFound, api.ErrorBody{Error: fmt.Sprintf("%s has no %s in any take of %s", name, by.measure.Label, c.Param("name")), Remedy: "choose another function"})
		return
	}
	out := api.OverOut{Name: name, Short: profile.Short(name), Scale: string(by.scale), Words: by.scale.Words(), Measure: by.measure.Name, Label: by.measure.Label, Counted: by.measure.Counted, Plain: by.measure.Unit, Unit: by.scale.Unit(by.measure.Unit), Measures: by.measures, Without: by.without, Workload: by.workload, Builds: []api.OverBuild{}}
	index := map[int64]int{}
	var of [][2]statistics.Group // self and total
	for i := range by.takes {
		t := &by.takes[i]
		k, ok := index[t.BuildID]
		if !ok {
			k = len(out.Builds)
			index[t.BuildID] = k
			out.Builds, of = append(out.Builds, api.OverBuild{Name: t.Build.Name}), append(of, [2]statistics.Group{})
		}
		f := figures[t.ID]
		x := api.OverTake{Key: t.Key, At: t.StartedAt.UTC().Format("2006-01-02T15:04:05Z"), Self: float64(f.Self) / by.divisors[i], Total: float64(f.Total) / by.divisors[i], Lost: t.Lost}
		out.Builds[k].Takes = append(out.Builds[k].Takes, x)
		if e := t.Facts.Exact; e != nil {
			of[k][0].AddExact(x.Self, match.ExactVaries(e, by.measure.Name, name, f.Self)/by.divisors[i], t.StartedAt)
			of[k][1].AddExact(x.Total, match.ExactVaries(e, by.measure.Name, "", f.Total)/by.divisors[i], t.StartedAt)
		} else {
			of[k][0].Add(x.Self, f.SelfSamples, t.StartedAt)
			of[k][1].Add(x.Total, f.TotalSamples, t.StartedAt)
		}
	}
	for k := range out.Builds {
		b := &out.Builds[k]
		if by.scale == scales.ByYardstick {
			of[k][0].Shared, of[k][1].Shared = by.chained.shared[k], by.chained.shared[k]
		}
		for i, m := range []*api.OverMeasure{&b.Self, &b.Total} {
			m.Mean, m.Low, m.High = statistics.Mean(of[k][i].Value)
			if k > 0 {
				m.Before = estimateOut(statistics.Totals(&of[k-1][i], &of[k][i], by.measure.Counted))
			}
		}
	}
	c.JSON(http.StatusOK, out)
}
