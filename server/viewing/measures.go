package viewing

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"entelon/core/measure"
	"entelon/server/api"
)

// Measures answers GET /measures.
func (s TakeRoutes) Measures(c *gin.Context) {
	out := api.MeasuresOut{Measures: []api.MeasureKindOut{}}
	for _, k := range measure.Kinds {
		_, err := measure.Parse(k.Word)
		out.Measures = append(out.Measures, api.MeasureKindOut{Word: k.Word, Title: k.Title, Form: k.Form(), Plain: err == nil, Means: k.Means, Note: k.Note})
	}
	c.JSON(http.StatusOK, out)
}
