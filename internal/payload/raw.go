package payload

// rawCodec is anything.
type rawCodec struct{}

func (rawCodec) Format() Format { return Binary }

func (rawCodec) Decode(b []byte) (any, error) { return b, nil }

func (rawCodec) Encode(v any) ([]byte, error) { return plainly(v) }

func (rawCodec) Locate(b []byte, pointer string) (start, end int, ok bool) { return whole(b, pointer) }
