package look

import (
	"encoding/json"
	"fmt"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/payload"
)

// Headline is the part of a payload that tells most, as far as there is room: the first
// fields with their units.
func Headline(cell *contract.Cell, room int) string {
	fields, value := cell.Clause.Payload.Fields(), cell.Value()
	text := ""
	for i, f := range fields {
		x, ok := payload.At(value, f.Pointer)
		if !ok || value == nil || strings.HasSuffix(f.Type, "date-time") {
			continue
		}
		if _, nested := x.(map[string]any); nested && i+1 < len(fields) &&
			strings.HasPrefix(fields[i+1].Pointer, f.Pointer+"/") {
			continue // its parts follow
		}
		part := strings.TrimSpace(ShowValue(x) + " " + f.Unit)
		if text == "" && Width(part) > room {
			part = ShowValue(x)
		}
		if b, is := x.(bool); is {
			part = map[bool]string{true: f.Name, false: "not " + f.Name}[b]
		}
		if text != "" {
			part = text + ", " + part
		}
		if text != "" && Width(part) > room {
			break
		}
		text = part
	}
	if text == "" {
		return payload.Show(cell.Last.Payload, 40)
	}
	return text
}

// ShowValue is a value in few characters.
func ShowValue(v any) string {
	switch v := payload.Plain(v).(type) {
	case nil:
		return "null"
	case float64:
		return Number(v)
	case string:
		return v
	case bool:
		return fmt.Sprint(v)
	default: // nested: as it would be written
		b, _ := json.Marshal(v)
		return string(b)
	}
}
