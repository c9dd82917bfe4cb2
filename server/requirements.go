package server

import (
	"fmt"
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
	if t.Kind() == reflect.Array { // which the generator leaves open
		return listed(t, schema)
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

// listed describes an array of numbers as a list of so many.
func listed(t reflect.Type, schema *openapi3.Schema) error {
	item := openapi3.NewFloat64Schema()
	switch t.Elem().Kind() {
	case reflect.Int64, reflect.Int:
		item = openapi3.NewInt64Schema()
	case reflect.Float64:
	default:
		return fmt.Errorf("an array of %s is not described", t.Elem())
	}
	n := uint64(t.Len())
	schema.Type, schema.Items = &openapi3.Types{openapi3.TypeArray}, item.NewRef()
	schema.MinItems, schema.MaxItems = n, &n
	return nil
}
