package signature

// dialect is the version of JSON Schema that the schemas of contracts are written in.
const dialect = "https://json-schema.org/draft/2020-12/schema"

// RequestSchema is the JSON Schema of requests that a model with this signature answers, in the
// Open Inference Protocol (HTTP and JSON).
func (s *Signature) RequestSchema(title string) map[string]any {
	return message(title, "inputs", s.Inputs, true)
}

// AnswerSchema is the JSON Schema of its answers. Outputs beyond the signature are allowed, as
// they break nobody.
func (s *Signature) AnswerSchema(title string) map[string]any {
	return message(title, "outputs", s.Outputs, false)
}

// message is the schema of a message that has a list with each of the tensors once.
func message(title, member string, columns []Column, closed bool) map[string]any {
	all, each := []any{}, []any{}
	for _, c := range columns {
		if !closed {
			c.Levels = nil // one more breaks nobody
		}
		tensor := c.schema()
		each = append(each, tensor)
		least := 1
		if c.optional() && closed {
			least = 0
		}
		named := map[string]any{
			"required":   []string{"name"},
			"properties": map[string]any{"name": map[string]any{"const": c.Name}},
		}
		all = append(all, map[string]any{"contains": named, "minContains": least, "maxContains": 1})
	}
	list := map[string]any{"type": "array", "allOf": all}
	if len(columns) > 0 {
		known := make([]any, len(columns))
		for i, c := range columns {
			known[i] = c.Name
		}
		wellFormed := map[string]any{"anyOf": each}
		if closed {
			list["items"] = wellFormed
		} else { // what is not of the signature may be as it likes
			list["items"] = map[string]any{
				"if":   map[string]any{"properties": map[string]any{"name": map[string]any{"enum": known}}},
				"then": wellFormed,
			}
		}
	} else {
		delete(list, "allOf")
	}
	return map[string]any{
		"$schema": dialect, "title": title, "type": "object", "required": []string{member},
		"properties": map[string]any{member: list},
	}
}

// schema is that of the tensor that carries the column.
func (c Column) schema() map[string]any {
	properties := map[string]any{
		"name": map[string]any{"const": c.Name}, "data": map[string]any{"type": "array"},
	}
	if c.plain() {
		if c.Datatype != "" {
			properties["datatype"] = map[string]any{"const": c.Datatype}
		}
		shape := map[string]any{"type": "array", "items": map[string]any{"type": "integer", "minimum": 0}}
		if c.Datatype != "" && !c.AnyShape {
			dimensions := make([]any, len(c.Shape))
			for i, d := range c.Shape {
				dimensions[i] = map[string]any{"type": "integer", "minimum": 0}
				if d >= 0 {
					dimensions[i] = map[string]any{"const": d}
				}
			}
			shape["minItems"], shape["maxItems"] = len(c.Shape), len(c.Shape)
			if len(dimensions) > 0 {
				shape["prefixItems"] = dimensions
			}
		}
		properties["shape"] = shape
		properties["data"] = c.dataSchema()
	}
	return map[string]any{
		"type": "object", "required": []string{"name", "shape", "datatype", "data"}, "properties": properties,
		"description": c.describe(),
	}
}

// dataSchema is that of the values, which the protocol allows flat or nested.
func (c Column) dataSchema() map[string]any {
	value := map[string]any{}
	switch c.Type {
	case Number:
		value["type"] = "number"
	case Integer:
		value["type"] = "integer"
	case Boolean:
		value["type"] = "boolean"
	case Text:
		value["type"] = "string"
		if len(c.Levels) > 0 {
			value = map[string]any{"enum": c.Levels}
		}
	}
	kinds := []any{value, map[string]any{"type": "array"}}
	if c.Nullable {
		kinds = append(kinds, map[string]any{"type": "null"})
	}
	return map[string]any{"type": "array", "items": map[string]any{"anyOf": kinds}}
}
