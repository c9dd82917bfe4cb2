package request

import (
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/people"
)

// Route is one entry of the API: what Gin serves and what the description says.
type Route struct {
	Needs   people.Role // who may ask
	Method  string
	Path    string // as OpenAPI writes it, {key} and all
	Summary string
	Query   []Param
	Body    any    // type of the request's body; nil for none
	Octets  bool   // the request's body is a file
	Answer  any    // type of the answer's body; nil for none
	Status  int    // of a success
	File    string // media type, where the answer is a file
	Load    load   // how much work it is
	Most    int64  // bytes of the request's body; 0: few
	Audit   string // what the audit list says of a success; "": the handler says it, or nothing was changed
	Handle  gin.HandlerFunc
}

// Param is a parameter of a route's query.
type Param struct {
	Name, Kind, About string // kind: string, integer, number, boolean
	Required          bool
}

// GinPath writes {key} as Gin does.
func (r Route) GinPath() string {
	return strings.NewReplacer("{", ":", "}", "").Replace(r.Path)
}

// Query is a parameter by its name, its kind, what it is about and whether it must be given.
func Query(name, kind, about string, required bool) Param { return Param{name, kind, about, required} }
