package otlp

import (
	"bytes"
	"errors"
	"reflect"
	"strings"
	"testing"

	"go.opentelemetry.io/collector/pdata/pcommon"
	"go.opentelemetry.io/collector/pdata/ptrace"

	"entelon/core/spans"
)

// traces are two spans of a service, the second within the first, and one without an end of another.
func traces() ptrace.Traces {
	all := ptrace.NewTraces()
	for i, service := range []string{"engraved", "platesetter"} {
		of := all.ResourceSpans().AppendEmpty()
		of.Resource().Attributes().PutStr("service.name", service)
		of.Resource().Attributes().PutInt("process.pid", int64(100+i))
		in := of.ScopeSpans().AppendEmpty().Spans()
		for k := range 2 - i {
			s := in.AppendEmpty()
			s.SetName([]string{"page", "draw"}[k])
			if i == 1 { // it goes on from the first one; a link to nothing is none
				s.Links().AppendEmpty()
				l := s.Links().AppendEmpty()
				l.SetTraceID(pcommon.TraceID{1})
				l.SetSpanID(pcommon.SpanID{1, 1})
			}
			s.SetTraceID(pcommon.TraceID{1})
			s.SetSpanID(pcommon.SpanID{byte(1 + i), byte(1 + k)})
			if k > 0 {
				s.SetParentSpanID(pcommon.SpanID{1, 1})
			}
			s.SetStartTimestamp(pcommon.Timestamp(1000 + 100*k))
			if i == 0 {
				s.SetEndTimestamp(pcommon.Timestamp(2000 - 100*k))
			}
			s.Attributes().PutInt("thread.id", int64(7+k))
		}
	}
	return all
}

// TestRead: the same comes from protobuf, from JSON and from lines of JSON.
func TestRead(t *testing.T) {
	proto, err1 := (&ptrace.ProtoMarshaler{}).MarshalTraces(traces())
	json, err2 := (&ptrace.JSONMarshaler{}).MarshalTraces(traces())
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	first, second := traces(), traces()
	first.ResourceSpans().RemoveIf(func(r ptrace.ResourceSpans) bool {
		s, _ := r.Resource().Attributes().Get("service.name")
		return s.Str() != "engraved"
	})
	second.ResourceSpans().RemoveIf(func(r ptrace.ResourceSpans) bool {
		s, _ := r.Resource().Attributes().Get("service.name")
		return s.Str() == "engraved"
	})
	a, err1 := (&ptrace.JSONMarshaler{}).MarshalTraces(first)
	b, err2 := (&ptrace.JSONMarshaler{}).MarshalTraces(second)
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	want := []spans.Told{
		{Name: "page", Begin: 1000, End: 2000, Service: "engraved", PID: 100, TID: 7, ID: "01000000000000000000000000000000" + "0101000000000000"},
		{Name: "draw", Begin: 1100, End: 1900, Service: "engraved", PID: 100, TID: 8, ID: "01000000000000000000000000000000" + "0102000000000000", Parent: "01000000000000000000000000000000" + "0101000000000000"},
		{Name: "page", Begin: 1000, Service: "platesetter", PID: 101, TID: 7, ID: "01000000000000000000000000000000" + "0201000000000000", Links: []string{"01000000000000000000000000000000" + "0101000000000000"}},
	}
	unknown := strings.Replace(string(json), `{"resourceSpans"`, `{"fromTheFuture":{"x":[1,2]},"resourceSpans"`, 1)
	for name, text := range map[string][]byte{"protobuf": proto, "JSON": json, "lines": []byte(string(a) + "\n\n" + string(b) + "\n"), "JSON behind a mark": append([]byte("\xef\xbb\xbf \n"), json...), "unknown fields": []byte(unknown)} {
		got, err := Read(bytes.NewReader(text))
		if err != nil || len(got) != len(want) {
			t.Errorf("%s: %v, %d spans", name, err, len(got))
			continue
		}
		for i := range want {
			if !reflect.DeepEqual(got[i], want[i]) {
				t.Errorf("%s: span %d is %+v, want %+v", name, i, got[i], want[i])
			}
		}
	}
	for name, x := range map[string]struct {
		text string
		err  error
	}{
		"nothing": {"", ErrEmpty}, "text": {"dear reader", ErrNotOTLP}, "half": {string(json[:len(json)/2]), ErrNotOTLP}, "other JSON": {`{"takes":[]}`, ErrEmpty},
		"a line that is none": {string(a) + "\n{\n", ErrNotOTLP}, "half of protobuf": {string(proto[:len(proto)-3]), ErrNotOTLP},
	} {
		if _, err := Read(strings.NewReader(x.text)); !errors.Is(err, x.err) {
			t.Errorf("%s: %v, want %v", name, err, x.err)
		}
	}
}

// TestNumbersThatAreNone: what names no process or thread is none, and no time is beyond all times.
func TestNumbersThatAreNone(t *testing.T) {
	all := traces()
	of := all.ResourceSpans().At(0)
	of.Resource().Attributes().PutStr("process.pid", "100")
	s := of.ScopeSpans().At(0).Spans().At(0)
	s.Attributes().PutInt("thread.id", -1)
	s.SetEndTimestamp(1<<64 - 1)
	b, err := (&ptrace.ProtoMarshaler{}).MarshalTraces(all)
	if err != nil {
		t.Fatal(err)
	}
	got, err := Read(bytes.NewReader(b))
	if err != nil || got[0].PID != 0 || got[0].TID != 0 || got[0].End != 1<<62 {
		t.Errorf("%v: %+v", err, got[0])
	}
}

func FuzzRead(f *testing.F) {
	proto, err1 := (&ptrace.ProtoMarshaler{}).MarshalTraces(traces())
	json, err2 := (&ptrace.JSONMarshaler{}).MarshalTraces(traces())
	if err := errors.Join(err1, err2); err != nil {
		f.Fatal(err)
	}
	f.Add(proto)
	f.Add(json)
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, err := Read(bytes.NewReader(b)); err != nil && !errors.Is(err, ErrNotOTLP) && !errors.Is(err, ErrEmpty) && !errors.Is(err, spans.ErrTooMany) {
			t.Errorf("%v", err)
		}
	})
}
