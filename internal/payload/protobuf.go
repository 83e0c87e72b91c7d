package payload

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"github.com/bufbuild/protocompile"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
	"google.golang.org/protobuf/types/dynamicpb"
)

// Protobuf is one message of Protocol Buffers, read as a JSON object of its fields' names.
const Protobuf Format = "protobuf"

// ProtoMessage is the codec of one kind of message: integers in full, enumerations by their names, bytes as base64url
// without padding, fields as they are called in the .proto file. Fields that are not set are left out, but for those
// that proto3 has no way to tell so: they have their default.
type ProtoMessage struct {
	desc protoreflect.MessageDescriptor
}

// CompileProto reads a .proto file, and what it imports, from a file system, and returns the codec of one of its
// messages, by its full name or the last part of it.
func CompileProto(fsys fs.FS, file, message string) (*ProtoMessage, error) {
	c := protocompile.Compiler{Resolver: protocompile.WithStandardImports(&protocompile.SourceResolver{
		Accessor: func(name string) (io.ReadCloser, error) { return fsys.Open(name) },
	})}
	files, err := c.Compile(context.Background(), file)
	if err != nil {
		return nil, err
	}
	var names []string
	var found protoreflect.MessageDescriptor
	var walk func(all protoreflect.MessageDescriptors)
	walk = func(all protoreflect.MessageDescriptors) {
		for i := range all.Len() {
			m := all.Get(i)
			if m.IsMapEntry() {
				continue
			}
			if full := string(m.FullName()); full == message ||
				found == nil && strings.HasSuffix("."+full, "."+message) {
				found = m
			}
			names = append(names, string(m.FullName()))
			walk(m.Messages())
		}
	}
	walk(files[0].Messages())
	if found == nil {
		return nil, fmt.Errorf("%s has no message %q; it has %s", file, message, strings.Join(names, ", "))
	}
	return &ProtoMessage{found}, nil
}

// Format implements [Codec].
func (*ProtoMessage) Format() Format { return Protobuf }

// Name is the message's full name.
func (p *ProtoMessage) Name() string { return string(p.desc.FullName()) }

// Decode implements [Codec]. An empty payload is a message with nothing set.
func (p *ProtoMessage) Decode(b []byte) (any, error) {
	m := dynamicpb.NewMessage(p.desc)
	if err := (proto.UnmarshalOptions{RecursionLimit: maxNesting}).Unmarshal(b, m); err != nil {
		reason := strings.TrimSpace(strings.TrimPrefix(err.Error(), "proto:"))
		if strings.Contains(reason, "required field") {
			return nil, &Error{Protobuf, len(b), reason}
		}
		at := wireError(b)
		return nil, &Error{Protobuf, at, behind(b[at:], reason)}
	}
	v, err := protoMessage(m)
	if err != nil {
		return nil, &Error{Protobuf, 0, err.Error()}
	}
	return v, nil
}

// wireError returns where the fields of a message end to be such.
func wireError(b []byte) int {
	at := 0
	for at < len(b) {
		_, _, n := protowire.ConsumeField(b[at:])
		if n < 0 {
			return at
		}
		at += n
	}
	return 0 // inside one of them
}

func protoMessage(m protoreflect.Message) (any, error) {
	out := map[string]any{}
	fields := m.Descriptor().Fields()
	for i := range fields.Len() {
		f := fields.Get(i)
		if !m.Has(f) && (f.HasPresence() || f.IsList() || f.IsMap()) {
			continue
		}
		v, err := protoValue(f, m.Get(f))
		if err != nil {
			return nil, err
		}
		out[string(f.Name())] = v
	}
	if rest := m.GetUnknown(); len(rest) > 0 {
		number, _, _ := protowire.ConsumeTag(rest)
		return nil, fmt.Errorf(
			"field %d is not in %s: is it of a newer .proto file?",
			number,
			m.Descriptor().FullName(),
		)
	}
	return out, nil
}

func protoValue(f protoreflect.FieldDescriptor, v protoreflect.Value) (any, error) {
	switch {
	case f.IsList():
		list := v.List()
		out := make([]any, list.Len())
		for i := range out {
			x, err := protoSingle(f, list.Get(i))
			if err != nil {
				return nil, err
			}
			out[i] = x
		}
		return out, nil
	case f.IsMap():
		out := map[string]any{}
		var bad error
		v.Map().Range(func(k protoreflect.MapKey, x protoreflect.Value) bool {
			out[k.String()], bad = protoSingle(f.MapValue(), x)
			return bad == nil
		})
		return out, bad
	}
	return protoSingle(f, v)
}

func protoSingle(f protoreflect.FieldDescriptor, v protoreflect.Value) (any, error) {
	switch f.Kind() {
	case protoreflect.BoolKind:
		return v.Bool(), nil
	case protoreflect.StringKind:
		return v.String(), nil
	case protoreflect.BytesKind:
		return base64.RawURLEncoding.EncodeToString(v.Bytes()), nil
	case protoreflect.EnumKind:
		if e := f.Enum().Values().ByNumber(v.Enum()); e != nil {
			return string(e.Name()), nil
		}
		return integer(int64(v.Enum())), nil
	case protoreflect.FloatKind:
		n, err := float(v.Float())
		if err == nil {
			n = json.Number(strconv.FormatFloat(v.Float(), 'g', -1, 32))
		}
		return n, err
	case protoreflect.DoubleKind:
		return float(v.Float())
	case protoreflect.MessageKind, protoreflect.GroupKind:
		return protoMessage(v.Message())
	case protoreflect.Uint32Kind, protoreflect.Uint64Kind, protoreflect.Fixed32Kind, protoreflect.Fixed64Kind:
		return integer(v.Uint()), nil
	}
	return integer(v.Int()), nil
}

// Encode implements [Codec].
func (p *ProtoMessage) Encode(v any) ([]byte, error) {
	if b, is := v.([]byte); is {
		return b, nil
	}
	like, err := jsonLike(v)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(like)
	if err != nil {
		return nil, err
	}
	m := dynamicpb.NewMessage(p.desc)
	if err := protojson.Unmarshal(text, m); err != nil {
		return nil, errors.New(strings.TrimSpace(strings.TrimPrefix(err.Error(), "proto:")))
	}
	return proto.MarshalOptions{Deterministic: true}.Marshal(m)
}

// Locate implements [Codec]: the bytes of a field without its tag; of repeated ones of that number.
func (p *ProtoMessage) Locate(b []byte, pointer string) (start, end int, ok bool) {
	desc, at, to := p.desc, 0, len(b)
	if pointer == "" {
		return 0, len(b), true
	}
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for len(parts) > 0 {
		if desc == nil {
			return 0, 0, false
		}
		f := desc.Fields().ByName(protoreflect.Name(parts[0]))
		if f == nil || f.IsMap() {
			return 0, 0, false
		}
		parts = parts[1:]
		which := -1 // the last one counts
		if f.IsList() && len(parts) > 0 {
			n, err := strconv.Atoi(parts[0])
			if err != nil || f.IsPacked() {
				return 0, 0, false
			}
			which, parts = n, parts[1:]
		}
		if at, to, ok = protoField(b, at, to, f, which); !ok {
			return 0, 0, false
		}
		desc = f.Message()
	}
	return at, to, true
}

// protoField finds a field among those from at to to: the one of the number which, or the last.
func protoField(b []byte, at, to int, f protoreflect.FieldDescriptor, which int) (start, end int, ok bool) {
	for n := 0; at < to; {
		number, typ, tag := protowire.ConsumeTag(b[at:to])
		if tag < 0 {
			return 0, 0, false
		}
		size := protowire.ConsumeFieldValue(number, typ, b[at+tag:to])
		if size < 0 {
			return 0, 0, false
		}
		if number == f.Number() {
			if which < 0 || which == n {
				start, end, ok = at+tag, at+tag+size, true
				if typ == protowire.BytesType {
					_, head := protowire.ConsumeVarint(b[start:end])
					start += max(0, head)
				}
			}
			n++
		}
		at += tag + size
	}
	return start, end, ok
}
