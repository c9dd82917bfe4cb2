package receive

import (
	"context"
	"errors"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	_ "google.golang.org/grpc/encoding/gzip" // what is sent may be packed
	"google.golang.org/grpc/mem"
	"google.golang.org/grpc/status"
)

// bytesCodec hands messages on as they are sent: they are read where hostile ones can do no harm.
type bytesCodec struct{}

func (bytesCodec) Name() string { return "proto" }

func (bytesCodec) Marshal(v any) (mem.BufferSlice, error) {
	b, ok := v.([]byte)
	if !ok {
		return nil, errors.New("it is no message")
	}
	return mem.BufferSlice{mem.SliceBuffer(b)}, nil
}

func (bytesCodec) Unmarshal(data mem.BufferSlice, v any) error {
	b, ok := v.(*[]byte)
	if !ok {
		return errors.New("it is no message")
	}
	*b = data.Materialize()
	return nil
}

// newGRPC makes the service for traces.
func newGRPC(r *Receiver) *grpc.Server {
	s := grpc.NewServer(grpc.ForceServerCodecV2(bytesCodec{}), grpc.MaxRecvMsgSize(MaxRequest), grpc.MaxConcurrentStreams(maxAtOnce))
	s.RegisterService(&grpc.ServiceDesc{
		ServiceName: "opentelemetry.proto.collector.trace.v1.TraceService",
		HandlerType: (*any)(nil),
		Methods:     []grpc.MethodDesc{{MethodName: "Export", Handler: export}},
	}, r)
	return s
}

// export answers one call of a sender.
func export(srv any, ctx context.Context, decode func(any) error, _ grpc.UnaryServerInterceptor) (any, error) {
	r := srv.(*Receiver)
	var body []byte
	if err := decode(&body); err != nil {
		r.refuse(err)
		return nil, err
	}
	left, err := r.take(ctx, body, false)
	if err != nil {
		r.refuse(err)
		return nil, status.Error(codes.InvalidArgument, err.Error())
	}
	return accepted(left, false)
}
