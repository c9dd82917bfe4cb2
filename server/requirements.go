package server

import (
	"reflect"
	"sort"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
)

// requireAll says in the description what encoding/json does: every field is
// written unless it may be left out when it is empty.
func requireAll(_ string, t reflect.Type, _ reflect.StructTag, schema *openapi3.Schema) error {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || len(schema.Properties) == 0 {
		return nil
	}
	schema.Required = nil
	for i := range t.NumField() {
		name, options, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		if _, there := schema.Properties[name]; there && !strings.Contains(options, "omitempty") {
			schema.Required = append(schema.Required, name)
		}
	}
	sort.Strings(schema.Required)
	return nil
}
