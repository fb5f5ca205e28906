package control

import (
	"reflect"
	"sort"
	"strings"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

type object = map[string]any

// openAPI describes the API in OpenAPI 3.1. It is made from the routes and the Go types, so
// that it cannot say anything else than what is served.
//
//large:one document
func openAPI() any {
	schemas := object{}
	whole, partial := &components{schemas, "", false}, &components{schemas, "Partial", true}
	paths := object{}
	at := func(path string) object {
		p, ok := paths[path].(object)
		if !ok {
			p = object{}
			paths[path] = p
		}
		return p
	}
	failed := object{"description": "What was wrong, and what to do.",
		"content": body(schema(reflect.TypeOf(api.Error{}), whole))}
	for _, rt := range routes() {
		op := object{"summary": rt.summary, "operationId": strings.Trim(strings.ToLower(rt.method)+strings.NewReplacer("/",
			"-", "{", "", "}", "").Replace(rt.path), "-")}
		var params []object
		for part := range strings.SplitSeq(rt.path, "/") {
			if name, ok := strings.CutPrefix(part, "{"); ok {
				params = append(params, object{"name": strings.TrimSuffix(name, "}"), "in": "path", "required": true,
					"schema": object{"type": "string"}})
			}
		}
		for _, q := range rt.query {
			params = append(params, object{"name": q, "in": "query", "schema": object{"type": "string"}})
		}
		if params != nil {
			op["parameters"] = params
		}
		if rt.in != nil {
			into := whole
			if partials[reflect.TypeOf(rt.in)] {
				into = partial
			}
			op["requestBody"] = object{"required": true, "content": body(schema(reflect.TypeOf(rt.in), into))}
		}
		responses := object{"default": failed}
		if rt.out != nil {
			responses["200"] = object{"description": "Done.", "content": body(schema(reflect.TypeOf(rt.out), whole))}
		} else {
			responses["204"] = object{"description": "Done."}
		}
		op["responses"] = responses
		if rt.role == anyone {
			op["security"] = []object{}
		} else {
			op["description"] = "For the role " + string(rt.role) + "."
		}
		at(api.Prefix + rt.path)[strings.ToLower(rt.method)] = op
	}
	at(api.Prefix + "/live")["get"] = object{
		"summary": "Live updates as server-sent events: status (all channels, once a second), health, event, and also (the answers of calls to follow).", "operationId": "get-live",
		"parameters": []object{{"name": "also", "in": "query", "description": "The path of a call of this API to follow, such as /recordings; may be repeated.",
			"schema": object{"type": "array", "items": object{"type": "string"}}}},
		"responses": object{"200": object{"description": "A stream.",
			"content": object{"text/event-stream": object{"schema": object{"type": "string"}}}}, "default": failed},
	}
	at(api.Prefix + "/studio/{source}/picture")["get"] = object{
		"summary": "Show a small picture of a source on the studio's network, by its ID or name.", "operationId": "get-studio-source-picture",
		"parameters": []object{{"name": "source", "in": "path", "required": true, "schema": object{"type": "string"}}},
		"responses": object{"200": object{"description": "A picture.",
			"content": object{"image/jpeg": object{"schema": object{"type": "string", "format": "binary"}}}}, "default": failed},
	}
	at(api.Prefix + "/export/{what}")["get"] = object{
		"summary": "Export records as a table: statistics.csv, events.csv or feeds.csv, of one channel, between two times.", "operationId": "get-export",
		"parameters": []object{{"name": "what", "in": "path", "required": true, "schema": object{"type": "string"}}, {"name": "channel", "in": "query", "schema": object{"type": "string"}},
			{"name": "from", "in": "query", "schema": object{"type": "string"}}, {"name": "to", "in": "query", "schema": object{"type": "string"}}},
		"responses": object{"200": object{"description": "A table.", "content": object{"text/csv": object{"schema": object{"type": "string"}}}}, "default": failed},
	}
	for _, c := range [][3]string{{"", "post", "Begin to upload a file to the library (tus 1.0.0: creation)."}, {"", "get", "List the uploads that are not complete."},
		{"/{upload}", "head", "Say how far an upload came."}, {"/{upload}", "patch", "Send a piece of an upload."}, {"/{upload}", "delete", "Remove an upload."}} {
		op := object{"summary": c[2], "operationId": c[1] + "-upload" + strings.Repeat("s", 1-len(c[0])/9), "responses": object{"default": failed}}
		if c[0] != "" {
			op["parameters"] = []object{{"name": "upload", "in": "path", "required": true, "schema": object{"type": "string"}}}
		}
		at(api.Prefix + uploadsPath + c[0])[c[1]] = op
	}
	return object{
		"openapi": "3.1.0",
		"info": object{"title": "Metaplasis control API", "version": "1",
			"description": "Times are RFC 3339; bitrates are bits per second; rates and loads named so are thousandths."},
		"paths":    paths,
		"security": []object{{"token": []string{}}, {"session": []string{}}},
		"components": object{"schemas": schemas, "securitySchemes": object{
			"token":   object{"type": "http", "scheme": "bearer"},
			"session": object{"type": "apiKey", "in": "cookie", "name": cookieName},
		}},
	}
}

func body(s object) object { return object{"application/json": object{"schema": s}} }

// partials are the bodies of which anything may be left out: it takes its default, or stays as it is.
var partials = map[reflect.Type]bool{reflect.TypeFor[settings.Settings](): true, reflect.TypeFor[api.Change](): true, reflect.TypeFor[ladder.Plan](): true, reflect.TypeFor[api.NewLadder](): true}

// components are where the schemas of named structures go: of the bodies of which anything may be left out under
// names of their own.
type components struct {
	all     object
	prefix  string
	partial bool
}

// schema describes a Go type in JSON Schema; named structures go to the components.
func schema(t reflect.Type, named *components) object {
	switch {
	case t == reflect.TypeOf(time.Time{}):
		return object{"type": "string", "format": "date-time"}
	case t.Kind() == reflect.Pointer:
		return schema(t.Elem(), named)
	}
	switch t.Kind() {
	case reflect.String:
		return object{"type": "string"}
	case reflect.Bool:
		return object{"type": "boolean"}
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 {
			return object{"type": "string", "contentEncoding": "base64"}
		}
		return object{"type": "array", "items": schema(t.Elem(), named)}
	case reflect.Map:
		return object{"type": "object", "additionalProperties": schema(t.Elem(), named)}
	case reflect.Struct:
		pkg := t.PkgPath()[strings.LastIndexByte(t.PkgPath(), '/')+1:]
		name := named.prefix + strings.ToUpper(pkg[:1]) + pkg[1:] + t.Name()
		if _, done := named.all[name]; !done {
			named.all[name] = object{} // stops recursion
			props, required := object{}, []string{}
			fields(t, named, props, &required)
			sort.Strings(required)
			described := object{"type": "object", "properties": props}
			if !named.partial {
				described["required"] = required
			}
			named.all[name] = described
		}
		return object{"$ref": "#/components/schemas/" + name}
	default:
		return object{"type": "integer"}
	}
}

func fields(t reflect.Type, named *components, props object, required *[]string) {
	for f := range t.Fields() {
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous && name == "" {
			fields(f.Type, named, props, required)
			continue
		}
		if name == "-" || !f.IsExported() {
			continue
		}
		if name == "" {
			name = f.Name
		}
		props[name] = schema(f.Type, named)
		if help := f.Tag.Get("help"); help != "" {
			props[name].(object)["description"] = help
		}
		if !strings.Contains(options, "omit") {
			*required = append(*required, name)
		}
	}
}
