// Package otlp reads spans from files of OpenTelemetry's protocol: its trace data as protobuf, as JSON, or as JSON
// with one message a line, as its collectors write files.
//
// Source: https://opentelemetry.io/docs/specs/otlp (data model 1.x).
package otlp

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"go.opentelemetry.io/collector/pdata/pcommon"
	"go.opentelemetry.io/collector/pdata/ptrace"

	"entelon/core/spans"
)

// MaxBytes bounds a file.
const MaxBytes = 256 << 20

// Errors about what cannot be read.
var (
	ErrTooLarge = fmt.Errorf("it is larger than %d MB", MaxBytes>>20)
	ErrNotOTLP  = errors.New("it is not trace data of OpenTelemetry, neither as JSON nor as protobuf")
	ErrEmpty    = errors.New("it has no spans")
)

// Read reads all spans of a file. The error is one of those above, of the reader, or spans.ErrTooMany.
func Read(r io.Reader) ([]spans.Told, error) {
	b, err := io.ReadAll(io.LimitReader(r, MaxBytes+1))
	switch {
	case err != nil:
		return nil, err
	case len(b) > MaxBytes:
		return nil, ErrTooLarge
	}
	var out []spans.Told
	if text := bytes.TrimLeft(b, " \t\r\n\ufeff"); len(text) > 0 && text[0] == '{' {
		out, err = readJSON(text)
	} else {
		out, err = readMessage(b, &ptrace.ProtoUnmarshaler{}, nil)
	}
	if err == nil && len(out) == 0 {
		err = ErrEmpty
	}
	return out, err
}

// readJSON reads messages one after the other.
func readJSON(text []byte) (out []spans.Told, err error) {
	messages := json.NewDecoder(bytes.NewReader(text))
	for n := 1; ; n++ {
		var m json.RawMessage
		err := messages.Decode(&m)
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("message %d: %w: %w", n, ErrNotOTLP, err)
		}
		if out, err = readMessage(m, &ptrace.JSONUnmarshaler{}, out); err != nil {
			return nil, fmt.Errorf("message %d: %w", n, err)
		}
	}
}

// readMessage adds the spans of one message.
func readMessage(b []byte, how ptrace.Unmarshaler, out []spans.Told) (_ []spans.Told, err error) {
	defer func() {
		if p := recover(); p != nil { // what is hostile may not end us
			out, err = nil, fmt.Errorf("%w: %v", ErrNotOTLP, p)
		}
	}()
	all, err := how.UnmarshalTraces(b)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotOTLP, err)
	}
	return Append(out, all, 0)
}

// Message reads the spans of one message, as it is sent. The error is ErrNotOTLP or spans.ErrTooMany.
func Message(b []byte, isJSON bool) ([]spans.Told, error) {
	if isJSON {
		return readMessage(b, &ptrace.JSONUnmarshaler{}, nil)
	}
	return readMessage(b, &ptrace.ProtoUnmarshaler{}, nil)
}

// maxLinks is how many links of a span are read.
const maxLinks = 16

// Append adds the spans of a message that arrived at a time, in nanoseconds since 1970. The error is
// spans.ErrTooMany.
func Append(out []spans.Told, all ptrace.Traces, arrived int64) ([]spans.Told, error) {
	for i := range all.ResourceSpans().Len() {
		of := all.ResourceSpans().At(i)
		who := of.Resource().Attributes()
		service, host, pid := text(who, "service.name"), text(who, "host.name"), number(who, "process.pid")
		for j := range of.ScopeSpans().Len() {
			in := of.ScopeSpans().At(j).Spans()
			if len(out)+in.Len() > spans.MaxTold {
				return nil, spans.ErrTooMany
			}
			for k := range in.Len() {
				s := in.At(k)
				x := spans.Told{
					Name: s.Name(), Begin: nanoseconds(s.StartTimestamp()), End: nanoseconds(s.EndTimestamp()), Service: service, Host: host,
					PID: pid, TID: number(s.Attributes(), "thread.id"), ID: identifier(s.TraceID(), s.SpanID()),
					Parent: identifier(s.TraceID(), s.ParentSpanID()), Arrived: arrived,
				}
				for l := range min(s.Links().Len(), maxLinks) {
					if id := identifier(s.Links().At(l).TraceID(), s.Links().At(l).SpanID()); id != "" {
						x.Links = append(x.Links, id)
					}
				}
				out = append(out, x)
			}
		}
	}
	return out, nil
}

// identifier is what tells a span from all others, "" where it has none.
func identifier(trace pcommon.TraceID, span pcommon.SpanID) string {
	if span.IsEmpty() {
		return ""
	}
	return trace.String() + span.String()
}

// nanoseconds is a time; one that cannot be is the last that can.
func nanoseconds(t pcommon.Timestamp) int64 { return int64(min(uint64(t), 1<<62)) }

func text(of pcommon.Map, name string) string {
	if v, ok := of.Get(name); ok && v.Type() == pcommon.ValueTypeStr {
		return v.Str()
	}
	return ""
}

// number is an attribute that is the number of a process or a thread; 0 where it is none.
func number(of pcommon.Map, name string) uint32 {
	v, ok := of.Get(name)
	if !ok || v.Type() != pcommon.ValueTypeInt || v.Int() < 0 || v.Int() > 1<<32-1 {
		return 0
	}
	return uint32(v.Int())
}
