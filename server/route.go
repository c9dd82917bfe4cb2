package server

import (
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/people"
)

// route is one entry of the API: what Gin serves and what the description says.
type route struct {
	needs   people.Role // who may ask
	method  string
	path    string // as OpenAPI writes it, {key} and all
	summary string
	query   []param
	body    any    // type of the request's body; nil for none
	octets  bool   // the request's body is a file
	answer  any    // type of the answer's body; nil for none
	status  int    // of a success
	file    string // media type, where the answer is a file
	load    load   // how much work it is
	most    int64  // bytes of the request's body; 0: few
	audit   string // what the audit list says of a success; "": the handler says it, or nothing was changed
	handle  gin.HandlerFunc
}

type param struct {
	name, kind, about string // kind: string, integer, number, boolean
	required          bool
}

// ginPath writes {key} as Gin does.
func (r route) ginPath() string {
	return strings.NewReplacer("{", ":", "}", "").Replace(r.path)
}
