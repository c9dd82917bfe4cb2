// Package codec says what a format is: an Encoder writes what is seen of a take, a
// Decoder reads a take. Each format is a folder beside this file and a line in
// codec/formats.
//
// Encoders and decoders hold nothing: many goroutines may use one.
package codec

import (
	"cmp"
	"errors"
	"html/template"
	"io"
	"time"

	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/scope"
)

// View is what of a take an Encoder writes, and how.
type View struct {
	Take  *profile.Take
	Tree  *calltree.Tree // in any shape
	Cost  *calltree.Cost // of one measure in scope
	Rows  func() []calltree.FunctionCost
	Scope scope.Scope
	Shape calltree.Shape
	Focus string                 // full name of a function with a mark, "" for none
	Notes func() ([]Note, error) // nil where there are none
	Now   time.Time

	Root   calltree.NodeID // dived into
	Order  calltree.Order  // of siblings
	Up     bool            // a flame grows up
	Width  int             // of a picture, in pixels
	Values bool            // the measure's values instead of numbers of samples
	Bounds Bounds
}

// Bounds say how much an Encoder may write; 0 is no bound.
type Bounds struct {
	Rows  int   // of a picture
	Boxes int   // of a picture
	Bytes int64 // of stacks
}

// Note is what somebody wrote on the take or on a function, as HTML that is safe to
// show.
type Note struct {
	On   string // the function, "" for the take
	HTML template.HTML
}

// ErrTooLarge means that what would be written has more bytes than it may.
var ErrTooLarge = errors.New("this has more bytes than can be written at once")

// Encoder writes a format.
type Encoder struct {
	Name   string // as people choose it: "picture"
	Ending string // of its files: ".svg"
	Type   string // its media type: "image/svg+xml"
	Means  string // what it is, for people
	Whole  bool   // it writes all of the take, whatever is in scope
	Params []Param
	Encode func(io.Writer, View) error
}

// Param is something that an Encoder's users may choose, by the name of the field of
// View that has it, with a small letter.
type Param struct {
	Name  string // "root", "order", "pixels", "up", "focus" or "values"
	Type  string // as the API calls it: "integer"
	Means string
}

// Options choose how a take is read.
type Options struct {
	Limits  Limits
	Salvage bool // keep what can be read of a file that is cut off or damaged
}

// Limits bound what a Decoder takes from a file that it does not trust.
type Limits struct {
	Block    uint32 // unpacked bytes of one block
	Unpacked int64  // unpacked bytes of all blocks together
	Memory   int64  // bytes of all columns and texts that come of them; 0: DefaultLimits'
	Depth    int32  // frames of the deepest stack; 0: DefaultLimits'
}

// DefaultLimits suffice for takes of about a hundred million samples, and for
// stacks three times as deep as 8 MiB hold.
var DefaultLimits = Limits{Block: 256 << 20, Unpacked: 4 << 30, Memory: 8 << 30, Depth: 1 << 19}

// OrDefault has the defaults where nothing is said.
func (l Limits) OrDefault() Limits {
	return Limits{
		Block: cmp.Or(l.Block, DefaultLimits.Block), Unpacked: cmp.Or(l.Unpacked, DefaultLimits.Unpacked),
		Memory: cmp.Or(l.Memory, DefaultLimits.Memory), Depth: cmp.Or(l.Depth, DefaultLimits.Depth),
	}
}

// Decoder reads a format.
type Decoder struct {
	Name   string // as people call it: "take"
	Ending string // of its files: ".take"
	Means  string
	// Is tells by the first bytes of a file, SniffBytes at most, whether it is of this
	// format.
	Is func(head []byte) bool
	// Decode reads a file; its name stands in errors.
	Decode func(r io.Reader, name string, o Options) (*profile.Take, error)
}

// SniffBytes is how many of a file's first bytes tell of which format it is.
const SniffBytes = 512
