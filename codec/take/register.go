package take

import (
	"bytes"
	"io"

	"entelon/codec"
)

// Decoder and Encoder are this format among others.
var (
	Decoder = codec.Decoder{
		Name: "take", Ending: ".take", Means: "a take",
		// What is cut off within the first bytes is a broken take, and is told so.
		Is: func(head []byte) bool {
			return len(head) > 0 && bytes.HasPrefix(head, magic[:min(len(head), len(magic))])
		},
		Decode: Read,
	}
	Encoder = codec.Encoder{
		Name: "take", Ending: ".take", Type: "application/octet-stream", Means: "a take, all of it", Whole: true,
		Encode: func(w io.Writer, v codec.View) error { return Write(w, v.Take) },
	}
)
