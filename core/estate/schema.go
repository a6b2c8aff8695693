package estate

import (
	"net/netip"
	"reflect"
	"strings"
)

// enums are the values of the word-like types.
var enums = map[reflect.Type][]any{
	reflect.TypeFor[Placement]():   {Inline, OneArmed},
	reflect.TypeFor[Target]():      {TargetLinux, TargetRestconf},
	reflect.TypeFor[Reach]():       {Static, Dynamic, Forwarded, NAT},
	reflect.TypeFor[Transport]():   {WireGuard, IPsec},
	reflect.TypeFor[Shape]():       {HubAndSpoke, FullMesh, Custom},
	reflect.TypeFor[Numbering]():   {PerTunnel, PerSite},
	reflect.TypeFor[Pairing]():     {Every, Matched, TopN},
	reflect.TypeFor[Family]():      {V4, V6},
	reflect.TypeFor[Action]():      {Permit, Deny},
	reflect.TypeFor[ProbeTarget](): {FarEnd, FarLAN},
}

// Schema returns the document's JSON Schema (2020-12) as a value to be written
// as JSON. It says which keys and forms there are; what a schema cannot say,
// such as that names must point somewhere, Validate does.
func Schema() map[string]any {
	definitions := map[string]any{}
	schemaOf(reflect.TypeFor[Estate](), definitions, nil)
	document := definitions["Estate"].(map[string]any)
	delete(definitions, "Estate")
	document["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	document["title"] = "Wide Knot estate document, format 1"
	document["$defs"] = definitions
	document["required"] = []string{"wideknot", "estate"}
	document["properties"].(map[string]any)["wideknot"] = map[string]any{"const": Format}
	return document
}

// schemaOf describes a type; most are the caps of lists, by level.
func schemaOf(t reflect.Type, definitions map[string]any, most []int) map[string]any {
	if values, ok := enums[t]; ok {
		return map[string]any{"enum": values}
	}
	switch t {
	case reflect.TypeFor[netip.Prefix]():
		return map[string]any{"type": "string", "pattern": "^[0-9A-Fa-f.:]+/[0-9]{1,3}$"}
	case reflect.TypeFor[netip.Addr]():
		return map[string]any{"type": "string", "pattern": "^[0-9A-Fa-f.:]+$"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem(), definitions, nil)
	case reflect.Struct:
		if _, known := definitions[t.Name()]; !known {
			properties := map[string]any{}
			definition := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
			definitions[t.Name()] = definition
			var required []string
			for i := range t.NumField() {
				name, options, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
				properties[name] = schemaOf(t.Field(i).Type, definitions, mostOf(t.Field(i)))
				if name == "key" {
					properties[name] = map[string]any{"type": "string", "pattern": keyForm.String()}
				}
				if options == "" && t.Name() != "Estate" && name != "name" {
					required = append(required, name)
				}
			}
			if required != nil {
				definition["required"] = required
			}
		}
		return map[string]any{"$ref": "#/$defs/" + t.Name()}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem(), definitions, most[1:]), "maxProperties": most[0]}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), definitions, most[1:]), "maxItems": most[0]}
	case reflect.Array:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), definitions, nil), "minItems": t.Len(), "maxItems": t.Len()}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	}
	return map[string]any{"type": "string"}
}
