package config

import (
	"reflect"
	"strings"
)

// Table describes one table of the file for the reference.
type Table struct {
	Name string // as written, [bundle.NAME]
	Doc  string
	Need bool
	Keys []Key
}

// Key describes one key of a table.
type Key struct {
	Name, Type, Doc, Default, Example string
	Need                              bool
	Choice, Placeholders, For         []string // For are the languages that have the key, all when empty
}

// Reference describes the whole file, from the structs that it is read into.
func Reference() []Table {
	var out []Table
	for _, f := range fieldsOf(reflect.TypeFor[Config]()) {
		t := Table{Name: "[" + f.Tag.Get("toml") + "]", Doc: f.Tag.Get("doc"), Need: f.Tag.Get("need") != ""}
		element := f.Type
		for element.Kind() == reflect.Slice || element.Kind() == reflect.Pointer {
			element = element.Elem()
		}
		switch {
		case element == reflect.TypeFor[PlatformSet]():
			t.Keys = []Key{{Name: "NAME", Type: "list of texts", Doc: "The platforms of the set, as os/arch or os/arch/variant.", Example: f.Tag.Get("example")}}
		case f.Type.Kind() == reflect.Slice:
			t.Name = "[" + f.Tag.Get("toml") + ".NAME]"
			t.Keys = keysOf(element)
		default:
			t.Keys = keysOf(element)
		}
		out = append(out, t)
	}
	return out
}

func keysOf(t reflect.Type) []Key {
	var out []Key
	for _, f := range fieldsOf(t) {
		out = append(out, Key{
			Name: f.Tag.Get("toml"), Type: written(f.Type), Doc: f.Tag.Get("doc"), Default: f.Tag.Get("default"), Example: f.Tag.Get("example"),
			Need: f.Tag.Get("need") != "", Choice: strings.Fields(f.Tag.Get("choice")), Placeholders: strings.Fields(f.Tag.Get("fill")), For: strings.Fields(f.Tag.Get("for")),
		})
	}
	return out
}

// written names a type as the reader of the reference writes it.
func written(t reflect.Type) string {
	if c, ok := reflect.New(t).Interface().(custom); ok {
		return c.shape().written
	}
	switch t {
	case reflect.TypeFor[string]():
		return "text"
	case reflect.TypeFor[bool]():
		return "true or false"
	case reflect.TypeFor[int]():
		return "number"
	case reflect.TypeFor[[]string]():
		return "list of texts"
	case reflect.TypeFor[map[string]string]():
		return "table of texts"
	case reflect.TypeFor[[]Rule](), reflect.TypeFor[[]Tree]():
		return "list of texts and tables"
	}
	if t == reflect.TypeFor[[]Placed]() || t == reflect.TypeFor[[]Account]() {
		return "list of tables"
	}
	return t.String()
}

// Schema is the JSON Schema of the file, for editors.
func Schema() map[string]any {
	root := object(reflect.TypeFor[Config]())
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = FileName
	root["description"] = "What a project releases, and where it goes."
	return root
}

func object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	need := []string{}
	for _, f := range fieldsOf(t) {
		name := f.Tag.Get("toml")
		s := schemaOf(f)
		if doc := f.Tag.Get("doc"); doc != "" {
			s["description"] = doc
		}
		properties[name] = s
		if f.Tag.Get("need") != "" {
			need = append(need, name)
		}
	}
	return map[string]any{"type": "object", "properties": properties, "required": need, "additionalProperties": false}
}

func schemaOf(f reflect.StructField) map[string]any {
	if c, ok := reflect.New(f.Type).Interface().(custom); ok {
		return c.shape().schema
	}
	one := map[string]any{"type": "string"}
	if choice := strings.Fields(f.Tag.Get("choice")); len(choice) > 0 {
		one["enum"] = choice
	}
	switch f.Type {
	case reflect.TypeFor[string]():
		return one
	case reflect.TypeFor[bool]():
		return map[string]any{"type": "boolean"}
	case reflect.TypeFor[int]():
		return map[string]any{"type": "integer"}
	case reflect.TypeFor[[]string]():
		return listSchema(one)
	case reflect.TypeFor[map[string]string]():
		return map[string]any{"type": "object", "additionalProperties": one}
	case reflect.TypeFor[[]Rule]():
		return listSchema((&Rule{}).shape().schema)
	case reflect.TypeFor[[]Tree]():
		return listSchema((&Tree{}).shape().schema)
	case reflect.TypeFor[[]Placed]():
		return listSchema((&Placed{}).shape().schema)
	case reflect.TypeFor[[]Account]():
		return listSchema((&Account{}).shape().schema)
	case reflect.TypeFor[[]*PlatformSet]():
		return map[string]any{"type": "object", "additionalProperties": listSchema(one)}
	}
	switch f.Type.Kind() {
	case reflect.Struct:
		return object(f.Type)
	case reflect.Pointer:
		return object(f.Type.Elem())
	}
	return map[string]any{"type": "object", "additionalProperties": object(f.Type.Elem().Elem())}
}
