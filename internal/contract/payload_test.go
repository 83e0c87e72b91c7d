package contract_test

import (
	"testing"

	"hodstone/internal/contract"
	"hodstone/internal/payload"
)

// TestWhatPeopleWrite: text as it is, JSON of its value where the bytes are no text; and what a payload is called.
func TestWhatPeopleWrite(t *testing.T) {
	layout := payload.Layout{
		Fields: []payload.Field{
			{Name: "kg", Type: payload.U16},
			{Name: "rest", Type: payload.FieldText, Offset: 2, Length: -1},
		},
	}
	fixed := payload.Layout{Fields: layout.Fields[:1:1]}
	for _, l := range []*payload.Layout{&layout, &fixed} {
		if err := l.Check(); err != nil {
			t.Fatal(err)
		}
	}
	for name, tt := range map[string]struct {
		p           contract.Payload
		bytes, text string
		words       string
	}{
		"text": {contract.Payload{Format: payload.Text}, "open", "open", "text"},
		"JSON": {contract.Payload{Format: payload.JSON}, ` {"a": 1}`, ` {"a": 1}`, "json"},
		"percent": {contract.Payload{Format: payload.Number, Codec: payload.NumberText{Suffix: " %"}}, "75 %",
			"75 %", `number with " %" behind it`},
		"CBOR":    {contract.Payload{Format: payload.CBOR}, "\xa1\x61a\x01", `{"a":1}`, "cbor"},
		"msgpack": {contract.Payload{Format: payload.MessagePack}, "\x81\xa1a\x01", `{"a":1}`, "msgpack"},
		"open": {contract.Payload{Format: payload.Binary, Codec: layout}, "\x00\x07ab", `{"kg":7,"rest":"ab"}`,
			"a packed structure"},
		"fixed": {contract.Payload{Format: payload.Binary, Codec: fixed}, "\x00\x07", `{"kg":7}`,
			"a packed structure of 2 bytes"},
		"a medium": {contract.Payload{Format: payload.Binary, MediaType: "image/jpeg"}, "plain", "plain", "image/jpeg"},
	} {
		text, ok := tt.p.Write([]byte(tt.bytes))
		back, err := tt.p.Read(tt.text)
		spelled, is := tt.p.Spelled([]byte(tt.bytes))
		if is != (tt.text != tt.bytes) || is && spelled != text {
			t.Errorf("%s is spelled %q, %v", name, spelled, is)
		}
		if !ok || text != tt.text || err != nil || string(back) != tt.bytes || tt.p.Words() != tt.words {
			t.Errorf("%s: %q %v; back %q %v; %s", name, text, ok, back, err, tt.p.Words())
		}
	}
	for _, p := range []contract.Payload{{Format: payload.Binary}, {Format: payload.CBOR}, {Format: payload.Text}} {
		for _, b := range []string{"", "\xff\xfe"} {
			if text, ok := p.Write([]byte(b)); ok {
				t.Errorf("%s %q is written as %q", p.Format, b, text)
			}
		}
	}
	for _, text := range []string{"", "7 kg", `{"kg": 70000}`} {
		if b, err := (&contract.Payload{Codec: fixed}).Read(text); err == nil {
			t.Errorf("%q is read as % x", text, b)
		}
	}
}
