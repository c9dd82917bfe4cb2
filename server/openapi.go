package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strconv"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"

	"entelon/server/api"
	"entelon/server/request"
)

var pathParam = regexp.MustCompile(`\{(\w+)\}`)

// Description returns the API's OpenAPI description, made from the very table
// that is served and from the types that are written.
func Description() ([]byte, error) {
	schemas := openapi3.Schemas{}
	gen := openapi3gen.NewGenerator(openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true, ExportTopLevelSchema: true}),
		openapi3gen.SchemaCustomizer(requireAll))
	ref := func(v any) (*openapi3.SchemaRef, error) { return gen.NewSchemaRefForValue(v, schemas) }
	errRef, err := ref(api.ErrorBody{})
	if err != nil {
		return nil, fmt.Errorf("describing errors: %w", err)
	}
	paths := openapi3.NewPaths()
	for _, r := range table(&request.Server{}) {
		op, err := describe(r, ref, errRef)
		if err != nil {
			return nil, fmt.Errorf("describing %s %s: %w", r.Method, r.Path, err)
		}
		item := paths.Value("/api/v1" + r.Path)
		if item == nil {
			item = &openapi3.PathItem{}
			paths.Set("/api/v1"+r.Path, item)
		}
		item.SetOperation(r.Method, op)
	}
	doc := &openapi3.T{
		OpenAPI:    "3.0.3",
		Info:       &openapi3.Info{Title: "Entelon", Version: "1", Description: "Takes, and what is in them. Costs are in nanoseconds, shares from 0 to 1, times in nanoseconds since a take began."},
		Paths:      paths,
		Components: &openapi3.Components{Schemas: schemas},
	}
	b, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the description: %w", err)
	}
	loaded, err := openapi3.NewLoader().LoadFromData(b)
	if err != nil {
		return nil, fmt.Errorf("reading the description back: %w", err)
	}
	if err := loaded.Validate(context.Background()); err != nil {
		return nil, fmt.Errorf("the description is not valid: %w", err)
	}
	return b, nil
}

func describe(r request.Route, ref func(any) (*openapi3.SchemaRef, error), errRef *openapi3.SchemaRef) (*openapi3.Operation, error) {
	op := &openapi3.Operation{Summary: r.Summary, Responses: openapi3.NewResponsesWithCapacity(2)}
	for _, m := range pathParam.FindAllStringSubmatch(r.Path, -1) {
		op.AddParameter(openapi3.NewPathParameter(m[1]).WithSchema(openapi3.NewStringSchema()))
	}
	for _, p := range r.Query {
		schema := &openapi3.Schema{Type: &openapi3.Types{p.Kind}}
		op.AddParameter(openapi3.NewQueryParameter(p.Name).WithSchema(schema).WithDescription(p.About).WithRequired(p.Required))
	}
	if r.Body != nil {
		s, err := ref(r.Body)
		if err != nil {
			return nil, err
		}
		op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithJSONSchemaRef(s)}
	}
	binary := openapi3.NewStringSchema().WithFormat("binary")
	if r.Octets {
		op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithContent(openapi3.NewContentWithSchema(binary, []string{"application/octet-stream"}))}
	}
	status := r.Status
	if status == 0 {
		status = http.StatusOK
	}
	ok := openapi3.NewResponse().WithDescription(http.StatusText(status))
	if r.Answer != nil {
		s, err := ref(r.Answer)
		if err != nil {
			return nil, err
		}
		ok = ok.WithJSONSchemaRef(s)
	} else if r.File != "" {
		ok = ok.WithContent(openapi3.NewContentWithSchema(binary, []string{r.File}))
	}
	op.Responses.Set(strconv.Itoa(status), &openapi3.ResponseRef{Value: ok})
	op.Responses.Set("default", &openapi3.ResponseRef{Value: openapi3.NewResponse().WithDescription("What went wrong, in one line").WithJSONSchemaRef(errRef)})
	return op, nil
}
