package receive

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"go.opentelemetry.io/collector/pdata/pcommon"
	"go.opentelemetry.io/collector/pdata/ptrace"
	"go.opentelemetry.io/collector/pdata/ptrace/ptraceotlp"
	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"
	gzipgrpc "google.golang.org/grpc/encoding/gzip"
)

func traces(n int) ptrace.Traces {
	all := ptrace.NewTraces()
	of := all.ResourceSpans().AppendEmpty()
	of.Resource().Attributes().PutStr("service.name", "engraved")
	of.Resource().Attributes().PutStr("host.name", "atelier")
	in := of.ScopeSpans().AppendEmpty().Spans()
	for i := range n {
		s := in.AppendEmpty()
		s.SetName("draw")
		s.SetTraceID(pcommon.TraceID{1})
		s.SetSpanID(pcommon.SpanID{1, byte(i >> 8), byte(i), 1})
		s.SetStartTimestamp(1000)
		s.SetEndTimestamp(2000)
	}
	return all
}

func listen(t *testing.T) *Receiver {
	t.Helper()
	r, err := Listen("127.0.0.1:0", false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := r.Close(); err != nil {
			t.Error(err)
		}
	})
	return r
}

// post sends a body and returns the answer's code and text.
func post(t *testing.T, r *Receiver, kind, encoding string, body io.Reader) (int, string) {
	t.Helper()
	q, err := http.NewRequest(http.MethodPost, "http://"+r.Address()+"/v1/traces", body)
	if err != nil {
		t.Fatal(err)
	}
	q.Header.Set("Content-Type", kind)
	if encoding != "" {
		q.Header.Set("Content-Encoding", encoding)
	}
	a, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Body.Close()
	b, err := io.ReadAll(a.Body)
	if err != nil {
		t.Fatal(err)
	}
	return a.StatusCode, string(b)
}

func packed(t *testing.T, b []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	if _, err := w.Write(b); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func call(t *testing.T, r *Receiver, all ptrace.Traces, o ...grpc.CallOption) (ptraceotlp.ExportResponse, error) {
	t.Helper()
	c, err := grpc.NewClient(r.Address(), grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithDefaultCallOptions(grpc.MaxCallSendMsgSize(1<<30)))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	ctx, end := context.WithTimeout(context.Background(), 20*time.Second)
	defer end()
	return ptraceotlp.NewGRPCClient(c).Export(ctx, ptraceotlp.NewExportRequestFromTraces(all), o...)
}

// TestEveryWayIn: spans arrive over HTTP as protobuf and as JSON, packed or not, and over gRPC, all at
// one address, with the time of their arrival.
func TestEveryWayIn(t *testing.T) {
	r := listen(t)
	before := time.Now().UnixNano()
	proto, err1 := (&ptrace.ProtoMarshaler{}).MarshalTraces(traces(3))
	json, err2 := (&ptrace.JSONMarshaler{}).MarshalTraces(traces(3))
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		kind, encoding string
		body           []byte
	}{{kindProto, "", proto}, {kindProto, "gzip", packed(t, proto)}, {kindJSON, "", json}, {kindJSON + "; charset=utf-8", "gzip", packed(t, json)}} {
		if code, text := post(t, r, x.kind, x.encoding, bytes.NewReader(x.body)); code != http.StatusOK {
			t.Errorf("%s, packed by %q: %d %q", x.kind, x.encoding, code, text)
		}
	}
	for _, o := range [][]grpc.CallOption{nil, {grpc.UseCompressor(gzipgrpc.Name)}} {
		if _, err := call(t, r, traces(3), o...); err != nil {
			t.Error(err)
		}
	}
	got := r.Got(time.Time{})
	if len(got.Spans) != 18 || got.Requests != 6 || got.Bad != 0 || got.NoRoom != 0 {
		t.Fatalf("%d spans of %d requests, %d bad: %v", len(got.Spans), got.Requests, got.Bad, got.Why)
	}
	for _, s := range got.Spans {
		if s.Name != "draw" || s.Service != "engraved" || s.Host != "atelier" || s.Arrived < before || s.Arrived > time.Now().UnixNano() {
			t.Errorf("a span is %+v", s)
		}
	}
}

// TestBadRequests: each gets an answer, is counted, and harms no other.
func TestBadRequests(t *testing.T) {
	r := listen(t)
	proto, err := (&ptrace.ProtoMarshaler{}).MarshalTraces(traces(3))
	if err != nil {
		t.Fatal(err)
	}
	zeros := make([]byte, 64<<20)
	for name, x := range map[string]struct {
		kind, encoding string
		body           io.Reader
		code           int
	}{
		"no protobuf":           {kindProto, "", strings.NewReader("dear reader"), http.StatusBadRequest},
		"half":                  {kindProto, "", bytes.NewReader(proto[:len(proto)-2]), http.StatusBadRequest},
		"no JSON":               {kindJSON, "", strings.NewReader("{"), http.StatusBadRequest},
		"deep JSON":             {kindJSON, "", strings.NewReader(strings.Repeat(`{"resourceSpans":[`, 100_000)), http.StatusBadRequest},
		"100 MB":                {kindProto, "", io.LimitReader(endless{}, 100<<20), http.StatusRequestEntityTooLarge},
		"100 MB without length": {kindJSON, "", struct{ io.Reader }{io.LimitReader(endless{}, 100<<20)}, http.StatusRequestEntityTooLarge},
		"small and then large":  {kindProto, "gzip", bytes.NewReader(packed(t, zeros)), http.StatusRequestEntityTooLarge},
		"not packed":            {kindProto, "gzip", bytes.NewReader(proto), http.StatusBadRequest},
		"packed otherwise":      {kindProto, "br", bytes.NewReader(proto), http.StatusBadRequest},
		"a form":                {"application/x-www-form-urlencoded", "", bytes.NewReader(proto), http.StatusUnsupportedMediaType},
	} {
		t.Run(name, func(t *testing.T) {
			q, err := http.NewRequest(http.MethodPost, "http://"+r.Address()+tracePath, x.body)
			if err != nil {
				t.Fatal(err)
			}
			q.Header.Set("Content-Type", x.kind)
			q.Header.Set("Content-Encoding", x.encoding)
			a, err := http.DefaultClient.Do(q)
			if err != nil { // it was cut off while it was sent
				var cut net.Error
				if x.code != http.StatusRequestEntityTooLarge || !errors.As(err, &cut) && !strings.Contains(err.Error(), "reset") && !strings.Contains(err.Error(), "broken pipe") {
					t.Error(err)
				}
				return
			}
			a.Body.Close()
			if a.StatusCode != x.code {
				t.Errorf("the answer is %d, want %d", a.StatusCode, x.code)
			}
		})
	}
	if _, err := call(t, r, traces(600_000)); err == nil {
		t.Error("a call larger than a request may be was accepted")
	}
	if code, text := post(t, r, kindProto, "", bytes.NewReader(proto)); code != http.StatusOK {
		t.Errorf("a good one behind them: %d %q", code, text)
	}
	got := r.Got(time.Time{})
	if len(got.Spans) != 3 || got.Bad != 10 || got.Why == nil {
		t.Errorf("%d spans, %d bad requests: %v", len(got.Spans), got.Bad, got.Why)
	}
}

// TestNoRoom: what does not fit is counted, and its sender is told.
func TestNoRoom(t *testing.T) {
	r := listen(t)
	r.room = 10_000
	answer, err := call(t, r, traces(100))
	if err != nil {
		t.Fatal(err)
	}
	got := r.Got(time.Time{})
	if got.NoRoom == 0 || len(got.Spans)+got.NoRoom != 100 || answer.PartialSuccess().RejectedSpans() != int64(got.NoRoom) {
		t.Errorf("%d are kept, %d are not, and the sender was told %d", len(got.Spans), got.NoRoom, answer.PartialSuccess().RejectedSpans())
	}
	if r.held > r.room {
		t.Errorf("%d bytes are held, %d may be", r.held, r.room)
	}
}

// TestLasting: one that outlives takes lets older spans go, and knows which arrived since a time.
func TestLasting(t *testing.T) {
	r := listen(t)
	r.room, r.lasting = 20_000, true
	at := time.Unix(1_780_000_000, 0)
	r.now = func() time.Time { return at }
	for range 50 {
		at = at.Add(time.Second)
		if _, err := call(t, r, traces(4)); err != nil {
			t.Fatal(err)
		}
	}
	got := r.Got(time.Time{})
	if got.NoRoom != 0 || got.LetGo == 0 || got.LetGo+len(got.Spans) != 200 || r.held > r.room {
		t.Errorf("%d spans, %d let go, %d without room; %d bytes", len(got.Spans), got.LetGo, got.NoRoom, r.held)
	}
	if got := r.Got(at.Add(-2 * time.Second)); len(got.Spans) != 12 {
		t.Errorf("%d spans arrived in the last three seconds, want 12", len(got.Spans))
	}
	// A take that begins now is told of nothing that was lost before, and then of what it loses itself.
	r.refuse(errNoRoom)
	at = at.Add(time.Second)
	m := r.Begin()
	if got, said := r.Since(m, 0); len(got.Spans) != 0 || got.LetGo != 0 || got.Bad != 0 || len(said) != 0 {
		t.Errorf("of a take that has just begun: %+v, %+v", got, said)
	}
	for range 50 {
		at = at.Add(time.Second)
		if _, err := call(t, r, traces(4)); err != nil {
			t.Fatal(err)
		}
	}
	if got, said := r.Since(m, 0); got.LetGo == 0 || got.LetGo+len(got.Spans) != 200 || len(said) != 1 || said[0].Code != "told-lost" {
		t.Errorf("of a take that lost some: %d spans, %d let go, %+v", len(got.Spans), got.LetGo, said)
	}
}

// endless is text without an end.
type endless struct{}

func (endless) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = ' '
	}
	return len(b), nil
}
