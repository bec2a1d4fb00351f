package desk

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// documents are what commands print with --json, by what their document says first.
var documents = map[string]reflect.Type{
	"changes": reflect.TypeFor[ChangesAnswer](), "connections": reflect.TypeFor[ConnectionsAnswer](),
	"ddl": reflect.TypeFor[DefineAnswer](), "dry-run": reflect.TypeFor[DryRunAnswer](),
	"error":  reflect.TypeFor[FailedAnswer](),
	"export": reflect.TypeFor[ExportAnswer](), "loads": reflect.TypeFor[LoadsAnswer](),
	"look":    reflect.TypeFor[LookAnswer](),
	"mapping": reflect.TypeFor[MappingAnswer](), "mend": reflect.TypeFor[MendAnswer](),
	"merge":       reflect.TypeFor[MergeAnswer](),
	"nothing-new": reflect.TypeFor[NothingAnswer](), "peek": reflect.TypeFor[TablesAnswer](),
	"peek-table": reflect.TypeFor[TableAnswer](), "refit": reflect.TypeFor[RefitAnswer](),
	"rejects": reflect.TypeFor[RejectsAnswer](), "script": reflect.TypeFor[ScriptAnswer](),
	"sweep": reflect.TypeFor[SweepAnswer](), "tray": reflect.TypeFor[TrayAnswer](),
	"chain": reflect.TypeFor[ChainAnswer](),
	"undo":  reflect.TypeFor[UndoAnswer](), "verify": reflect.TypeFor[VerifyAnswer](),
	"waive":   reflect.TypeFor[WaiveAnswer](),
	"receipt": reflect.TypeFor[tray.Receipt](), "dictionary": reflect.TypeFor[DictionaryAnswer](),
}

// Schemas are the names of what there is a schema of.
func Schemas() []string {
	names := []string{"plan"}
	for n := range documents {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// Schema is the JSON Schema (draft 2020-12) of a plan, a receipt, or what a command prints.
func (d *Desk) Schema(name string) ([]byte, error) {
	if name == "plan" {
		return json.MarshalIndent(planSchema(), "", "  ")
	}
	typ, known := documents[name]
	if !known {
		hint := "there are " + strings.Join(Schemas(), ", ")
		if m := phrase.Meant(name, Schemas()); m != "" {
			hint = m
		}
		return nil, need("no document is called %q\n  %s", name, hint)
	}
	r := &jsonschema.Reflector{AllowAdditionalProperties: true, ExpandedStruct: true, Anonymous: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if t == reflect.TypeFor[string]() { // or a pointer to one, which the library does not tell apart
				return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{{Type: "string"}, {Type: "null"}}}
			}
			return nil
		}}
	s := r.ReflectFromType(typ)
	s.Title = "Amber Tray: " + name
	return json.MarshalIndent(s, "", "  ")
}

// planSchema is that of a plan, in which no other keys may be.
func planSchema() *jsonschema.Schema {
	text := func(describe string) *jsonschema.Schema {
		return &jsonschema.Schema{Type: "string", Description: describe}
	}
	anyOf := func(list ...*jsonschema.Schema) *jsonschema.Schema { return &jsonschema.Schema{AnyOf: list} }
	r := &jsonschema.Reflector{FieldNameTag: "yaml", ExpandedStruct: true, Anonymous: true}
	shape := func(v any) *jsonschema.Schema {
		s := r.Reflect(v)
		s.Version = ""
		return s
	}
	seen, sheets := shape(&plan.Seen{}), shape(&plan.SheetRules{})
	var reading *jsonschema.Schema
	plain := &jsonschema.Reflector{FieldNameTag: "yaml", ExpandedStruct: true, Anonymous: true}
	reading = plain.Reflect(&plan.Reading{})
	reading.Version = ""
	words := &jsonschema.Schema{Type: "array", Items: text("")}
	r.Mapper = func(t reflect.Type) *jsonschema.Schema {
		switch t {
		case reflect.TypeFor[plan.Source]():
			s := &jsonschema.Schema{Type: "object", Properties: jsonschema.NewProperties(), Required: []string{"file"},
				AdditionalProperties: jsonschema.FalseSchema}
			s.Properties.Set("file", text("path, or a pattern"))
			for _, set := range source.Settings {
				s.Properties.Set(set.Key, anyOf(text(set.Help), &jsonschema.Schema{Type: "integer"},
					&jsonschema.Schema{Type: "boolean"}))
			}
			s.Properties.Set("sheets", sheets)
			s.Properties.Set("seen", anyOf(seen, &jsonschema.Schema{Type: "array", Items: seen}))
			return s
		case reflect.TypeFor[*string](), reflect.TypeFor[string]():
			// As YAML reads 0 and no.
			return anyOf(text(""), &jsonschema.Schema{Type: "number"}, &jsonschema.Schema{Type: "boolean"})
		case reflect.TypeFor[plan.Reading]():
			return anyOf(text("a pattern of dates"), words, reading)
		case reflect.TypeFor[plan.Missing]():
			return anyOf(&jsonschema.Schema{Enum: []any{plan.KeepMissing, plan.DeleteMissing}},
				&jsonschema.Schema{Type: "object", AdditionalProperties: text("an expression")})
		}
		return nil
	}
	s := r.Reflect(&plan.Plan{})
	s.Title, s.Description = "Amber Tray: plan", "docs/plan.md says what each key means"
	return s
}
