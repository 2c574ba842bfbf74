package config

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Shape describes a value that reads itself, for the reference and the schema.
type Shape struct {
	Written string // as the reader of the reference writes it
	Schema  map[string]any
}

// TableDoc describes one table of the file for the reference.
type TableDoc struct {
	Name string // as written, [bundle.NAME]
	Doc  string
	Need bool
	Keys []KeyDoc
	// Of is the key that chooses these keys, as in language = "go"; "" for keys
	// that the table always has.
	Of string
}

// KeyDoc describes one key of a table.
type KeyDoc struct {
	Name, Type, Doc, Default, Example string
	Need                              bool
	Choice, Placeholders              []string
}

// Reference describes the whole file.
func Reference(tables []Table) []TableDoc {
	var out []TableDoc
	for _, t := range tables {
		doc := parseDocs(t.Docs)
		name := "[" + t.Name + "]"
		if t.Named {
			name = "[" + t.Name + ".NAME]"
		}
		out = append(out, TableDoc{Name: name, Doc: doc.text, Need: t.Need, Keys: keysOf(t, t.Keys(), doc)})
		for _, a := range t.Alternatives {
			own := parseDocs(a.Docs)
			out = append(out, TableDoc{Name: name, Doc: own.text, Keys: keysOf(t, a.Keys(), own), Of: t.By +
				" = " + quoted(a.Name)})
		}
	}
	return out
}

func keysOf(t Table, keys any, doc docs) []KeyDoc {
	if _, ok := keys.(Value); ok {
		var out []KeyDoc
		for _, k := range doc.keys {
			out = append(out, KeyDoc{Name: k.name, Type: "list of texts", Doc: k.text, Example: k.example})
		}
		return out
	}
	var out []KeyDoc
	for _, f := range fieldsOf(reflect.TypeOf(keys).Elem(), t.Lists) {
		choice := f.choice
		if f.key == t.By {
			choice = t.alternativeNames()
		}
		names := []string{f.key}
		typ := f.typ
		if len(f.each) > 0 {
			names, typ = f.each, f.typ.Elem()
		}
		for _, name := range names {
			k := doc.key(name)
			if k == nil {
				k = &keyText{}
			}
			out = append(out, KeyDoc{Name: name, Type: written(typ, choice), Doc: k.text, Default: f.def,
				Example: k.example,
				Need:    f.need != "", Choice: choice, Placeholders: f.fill})
		}
	}
	return out
}

// written names a type as the reader of the reference writes it.
func written(t reflect.Type, choice []string) string {
	if v, ok := reflect.New(t).Interface().(Value); ok {
		return v.Shape(choice).Written
	}
	short := func(t reflect.Type) bool {
		return slices.ContainsFunc(fieldsOf(t, nil), func(f field) bool { return f.short })
	}
	switch {
	case t.Kind() == reflect.String:
		return "text"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() == reflect.Int:
		return "number"
	case t == reflect.TypeFor[[]string]():
		return "list of texts"
	case t == reflect.TypeFor[map[string]string]():
		return "table of texts"
	case t.Kind() == reflect.Slice && short(t.Elem()):
		return "list of texts and tables"
	case t.Kind() == reflect.Slice:
		return "list of tables"
	case t.Kind() == reflect.Struct && short(t):
		return "text or table"
	case t.Kind() == reflect.Struct:
		return "table"
	}
	return t.String()
}

// Schema is the JSON Schema of the file, for editors.
func Schema(tables []Table) map[string]any {
	properties := map[string]any{}
	need := []string{}
	for _, t := range tables {
		properties[t.Name] = tableSchema(t)
		if t.Need {
			need = append(need, t.Name)
		}
	}
	return map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": FileName,
		"description": "What a project releases, and where it goes.",
		"type":        "object", "properties": properties, "required": need, "additionalProperties": false}
}

func tableSchema(t Table) map[string]any {
	doc := parseDocs(t.Docs)
	if v, ok := t.Keys().(Value); ok {
		s := v.Shape(nil).Schema
		s["description"] = doc.text
		return s
	}
	s := object(reflect.TypeOf(t.Keys()).Elem(), t.Lists, doc)
	properties := s["properties"].(map[string]any)
	if t.By != "" {
		properties[t.By].(map[string]any)["enum"] = t.alternativeNames()
	}
	for _, a := range t.Alternatives {
		own := object(reflect.TypeOf(a.Keys()).Elem(), t.Lists, parseDocs(a.Docs))
		for key, one := range own["properties"].(map[string]any) {
			have, known := properties[key].(map[string]any)
			if !known {
				properties[key] = one
				continue
			}
			// A key of several alternatives says what it is in each.
			said, also := have["description"].(string), one.(map[string]any)["description"].(string)
			if !strings.Contains(said, also) {
				have["description"] = fmt.Sprintf("%s With %s = %q: %s", said, t.By, a.Name, also)
			}
		}
	}
	if t.Named {
		s = map[string]any{"type": "object", "additionalProperties": s}
	}
	s["description"] = doc.text
	return s
}

func object(t reflect.Type, lists map[string][]string, doc docs) map[string]any {
	properties := map[string]any{}
	need := []string{}
	for _, f := range fieldsOf(t, lists) {
		names, typ := []string{f.key}, f.typ
		if len(f.each) > 0 {
			names, typ = f.each, f.typ.Elem()
		}
		for _, name := range names {
			s := schemaOf(typ, f.choice, lists)
			if k := doc.key(name); k != nil {
				s["description"] = k.text
			}
			properties[name] = s
		}
		if f.need != "" {
			need = append(need, f.key)
		}
	}
	return map[string]any{"type": "object", "properties": properties, "required": need, "additionalProperties": false}
}

func schemaOf(t reflect.Type, choice []string, lists map[string][]string) map[string]any {
	if v, ok := reflect.New(t).Interface().(Value); ok {
		return v.Shape(choice).Schema
	}
	one := textSchema()
	if len(choice) > 0 {
		one["enum"] = choice
	}
	switch {
	case t.Kind() == reflect.String:
		return one
	case t.Kind() == reflect.Bool:
		return map[string]any{"type": "boolean"}
	case t.Kind() == reflect.Int:
		return map[string]any{"type": "integer"}
	case t == reflect.TypeFor[[]string]():
		return listSchema(one)
	case t == reflect.TypeFor[map[string]string]():
		return map[string]any{"type": "object", "additionalProperties": one}
	case t.Kind() == reflect.Slice:
		return listSchema(schemaOf(t.Elem(), nil, lists))
	}
	s := object(t, lists, docs{})
	if slices.ContainsFunc(fieldsOf(t, lists), func(f field) bool { return f.short }) {
		return anyOf(textSchema(), s)
	}
	return s
}

func textSchema() map[string]any { return map[string]any{"type": "string"} }

func listSchema(of map[string]any) map[string]any {
	return map[string]any{"type": "array", "items": of}
}

func anyOf(shapes ...map[string]any) map[string]any { return map[string]any{"anyOf": shapes} }

// TextSchema, ListSchema and AnyOf build the schemas of values elsewhere.
var (
	TextSchema = textSchema
	ListSchema = listSchema
	AnyOf      = anyOf
)

// exampleOf gives the example of a key, for the fault of its missing.
func (r *Reader) exampleOf(where, key string) string {
	table, _, _ := strings.Cut(where, ".")
	for _, t := range r.tables {
		if t.Name != table {
			continue
		}
		texts := slices.Clone(t.Docs)
		for _, a := range t.Alternatives {
			texts = append(texts, a.Docs...)
		}
		if k := parseDocs(texts).key(key); k != nil {
			return k.example
		}
	}
	return ""
}
