package store

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"

	"gorm.io/gorm/schema"
)

// document keeps a record as JSON. One that cannot be read, whoever wrote it,
// does not make the list that it is in fail: it is empty, and the row's field
// Broken says why.
type document struct{}

func init() { schema.RegisterSerializer("document", document{}) }

// Scan implements gorm's serializer.
func (document) Scan(ctx context.Context, field *schema.Field, dst reflect.Value, value any) error {
	made := reflect.New(field.FieldType)
	var b []byte
	switch v := value.(type) {
	case nil:
	case []byte:
		b = v
	case string:
		b = []byte(v)
	default:
		return fmt.Errorf("%s is kept as %T", field.Name, value)
	}
	if len(b) > 0 {
		if err := json.Unmarshal(b, made.Interface()); err != nil {
			made = reflect.New(field.FieldType)
			if broken := reflect.Indirect(dst).FieldByName("Broken"); broken.IsValid() && broken.Kind() == reflect.String {
				broken.SetString(fmt.Sprintf("its %s cannot be read", field.DBName))
			}
		}
	}
	field.ReflectValueOf(ctx, dst).Set(made.Elem())
	return nil
}

// Value implements gorm's serializer.
func (document) Value(_ context.Context, _ *schema.Field, _ reflect.Value, value any) (any, error) {
	b, err := json.Marshal(value)
	if string(b) == "null" {
		return nil, err
	}
	return string(b), err
}
