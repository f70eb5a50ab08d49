package read

import (
	"encoding/json"
	"fmt"
	"reflect"

	"github.com/goccy/go-yaml/ast"
	"github.com/invopop/jsonschema"

	"paceduel/core/plan"
)

// Schema returns the JSON Schema (2020-12) of plan files for the given kinds, indented. Editors that know YAML schemas
// complete and check plans with it.
func Schema(kinds []plan.Kind) ([]byte, error) {
	reflector := jsonschema.Reflector{
		Anonymous: true, DoNotReference: true, RequiredFromJSONSchemaTags: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if t == reflect.TypeFor[ast.Node]() {
				return &jsonschema.Schema{Type: "object"} // filled in below
			}
			return nil
		},
	}
	top := reflector.Reflect(document{})
	top.Title = "A duel: alternatives driven on equal footing and compared"

	course, contender := contenderSchema(&reflector, kinds)
	described := func(name string, s *jsonschema.Schema) error {
		old, ok := top.Properties.Get(name)
		if !ok {
			return fmt.Errorf("the plan's schema lacks %q", name)
		}
		s.Description = old.Description
		top.Properties.Set(name, s)
		return nil
	}
	low, high := uint64(plan.MinContenders), uint64(plan.MaxContenders)
	nullable := &jsonschema.Schema{OneOf: []*jsonschema.Schema{contender, {Type: "null"}}}
	if err := described("contenders", &jsonschema.Schema{
		Type: "object", MinProperties: &low, MaxProperties: &high, AdditionalProperties: nullable,
	}); err != nil {
		return nil, err
	}
	if err := described("course", course); err != nil {
		return nil, err
	}
	if err := described("sweep", sweepSchema(&reflector)); err != nil {
		return nil, err
	}
	return json.MarshalIndent(top, "", "  ")
}

// contenderSchema describes a contender and what all of them share. The settings of a kind stand in the course; whoever
// else has some refers to these.
func contenderSchema(reflector *jsonschema.Reflector, kinds []plan.Kind) (course, contender *jsonschema.Schema) {
	course = &jsonschema.Schema{
		Type: "object", Properties: jsonschema.NewProperties(), AdditionalProperties: jsonschema.FalseSchema,
	}
	contender = reflector.Reflect(entry{})
	contender.Version = ""
	bystander := reflector.Reflect(plan.Bystander{})
	bystander.Version = ""
	counts := &jsonschema.Schema{
		Type: "object", Properties: jsonschema.NewProperties(), AdditionalProperties: jsonschema.FalseSchema,
	}
	for _, k := range kinds {
		settings := reflector.ReflectFromType(reflect.TypeOf(k.New()).Elem())
		settings.Version, settings.Description = "", k.Doc
		// A key may come from the course, so none is required of a contender.
		settings.Required = nil
		course.Properties.Set(k.Name, settings)
		for _, s := range []*jsonschema.Schema{bystander, contender, counts} {
			s.Properties.Set(k.Name, &jsonschema.Schema{Ref: "#/properties/course/properties/" + k.Name, Description: k.Doc})
		}
	}
	if crash, ok := contender.Properties.Get("crash"); ok {
		old, _ := crash.Properties.Get("count")
		crash.Properties.Set("count", &jsonschema.Schema{
			OneOf: []*jsonschema.Schema{{Type: "string"}, counts}, Description: old.Description,
		})
	}
	if old, ok := contender.Properties.Get("bystander"); ok {
		bystander.Description = old.Description
		contender.Properties.Set("bystander", bystander)
	}
	for _, key := range courseKeys {
		if s, ok := contender.Properties.Get(key); ok {
			course.Properties.Set(key, s)
		}
	}
	return course, contender
}

// sweepSchema describes a sweep: parameters by name, each a list of values or more.
func sweepSchema(reflector *jsonschema.Reflector) *jsonschema.Schema {
	value := &jsonschema.Schema{OneOf: []*jsonschema.Schema{{Type: "string"}, {Type: "number"}, {Type: "boolean"}}}
	fewest, most := uint64(plan.FewestSwept), uint64(plan.MaxValues)
	values := &jsonschema.Schema{Type: "array", Items: value, MinItems: &fewest, MaxItems: &most}
	parameter := reflector.Reflect(overDoc{})
	parameter.Version = ""
	describe := func(in *jsonschema.Schema, key string, s jsonschema.Schema) {
		old, _ := in.Properties.Get(key)
		s.Description = old.Description
		in.Properties.Set(key, &s)
	}
	describe(parameter, "values", *values)
	sweep := reflector.Reflect(sweepDoc{})
	sweep.Version = ""
	one, two := uint64(1), uint64(plan.MaxParameters)
	describe(sweep, "over", jsonschema.Schema{
		Type: "object", MinProperties: &one, MaxProperties: &two,
		AdditionalProperties: &jsonschema.Schema{OneOf: []*jsonschema.Schema{values, parameter}},
	})
	return sweep
}
