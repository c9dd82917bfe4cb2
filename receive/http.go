package receive

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"go.opentelemetry.io/collector/pdata/ptrace/ptraceotlp"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"entelon/codec/otlp"
)

// The kinds of a request's body, and of its answer's.
const (
	kindProto = "application/x-protobuf"
	kindJSON  = "application/json"
	tracePath = "/v1/traces"
)

// arrival is under what a request's context has when it began to arrive: a span that it tells of had ended
// by then, and reading it takes a while.
type arrival struct{}

// ServeHTTP takes a request by either way.
func (r *Receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	q = q.WithContext(context.WithValue(q.Context(), arrival{}, r.now()))
	kind, _, err := mime.ParseMediaType(q.Header.Get("Content-Type"))
	switch {
	case q.ProtoMajor == 2 && strings.HasPrefix(kind, "application/grpc"):
		r.grpc.ServeHTTP(w, q)
	case q.URL.Path != tracePath:
		http.Error(w, "spans are sent to "+tracePath, http.StatusNotFound)
	case q.Method != http.MethodPost:
		w.Header().Set("Allow", http.MethodPost)
		http.Error(w, "spans are sent by POST", http.StatusMethodNotAllowed)
	case err != nil || kind != kindProto && kind != kindJSON:
		http.Error(w, "send "+kindProto+" or "+kindJSON, http.StatusUnsupportedMediaType)
	default:
		r.post(w, q, kind)
	}
}

// post answers a request whose body is of one of the two kinds.
func (r *Receiver) post(w http.ResponseWriter, q *http.Request, kind string) {
	body, err := unpacked(w, q)
	var left int
	if err == nil {
		left, err = r.take(q.Context(), body, kind == kindJSON)
	}
	if err != nil {
		r.refuse(err)
		code := http.StatusBadRequest
		if errors.Is(err, errTooLarge) {
			code = http.StatusRequestEntityTooLarge
		}
		refusal := status.New(codes.InvalidArgument, err.Error()).Proto()
		b, err := marshalled(refusal, kind == kindJSON)
		if err != nil {
			http.Error(w, err.Error(), code)
			return
		}
		answer(w, kind, code, b)
		return
	}
	b, err := accepted(left, kind == kindJSON)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answer(w, kind, http.StatusOK, b)
}

// marshalled is why a request was refused, as the protocol has it.
func marshalled(m proto.Message, isJSON bool) ([]byte, error) {
	if isJSON {
		return protojson.Marshal(m)
	}
	return proto.Marshal(m)
}

func answer(w http.ResponseWriter, kind string, code int, body []byte) {
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(code)
	_, _ = w.Write(body) // whoever asked may have gone
}

// unpacked reads a body, as much as a request may have.
func unpacked(w http.ResponseWriter, q *http.Request) ([]byte, error) {
	var from io.Reader = http.MaxBytesReader(w, q.Body, MaxRequest)
	switch encoding := q.Header.Get("Content-Encoding"); encoding {
	case "", "identity":
	case "gzip":
		z, err := gzip.NewReader(from)
		if err != nil {
			return nil, tooLarge(err)
		}
		from = z
	default:
		return nil, fmt.Errorf("it is packed by %.20q, and not by gzip", encoding)
	}
	b, err := io.ReadAll(io.LimitReader(from, MaxRequest+1))
	if len(b) > MaxRequest {
		err = errTooLarge
	}
	return b, tooLarge(err)
}

func tooLarge(err error) error {
	var most *http.MaxBytesError
	if errors.As(err, &most) {
		return errTooLarge
	}
	return err
}

// take reads a message and keeps its spans; left is for how many of them there was no room.
func (r *Receiver) take(ctx context.Context, body []byte, isJSON bool) (left int, err error) {
	arrived := r.now()
	if began, ok := ctx.Value(arrival{}).(time.Time); ok {
		arrived = began
	}
	select {
	case r.reading <- struct{}{}:
		defer func() { <-r.reading }()
	case <-ctx.Done():
		return 0, ctx.Err()
	}
	told, err := otlp.Message(body, isJSON)
	if err != nil {
		return 0, err
	}
	for i := range told {
		told[i].Arrived = arrived.UnixNano()
	}
	return r.keep(told), nil
}

// accepted is the answer to a message of whose spans some were not kept.
func accepted(left int, isJSON bool) ([]byte, error) {
	out := ptraceotlp.NewExportResponse()
	if left > 0 {
		out.PartialSuccess().SetRejectedSpans(int64(left))
		out.PartialSuccess().SetErrorMessage(errNoRoom.Error())
	}
	if isJSON {
		return out.MarshalJSON()
	}
	return out.MarshalProto()
}
