package receive

import (
	"context"
	"errors"
	"fmt"
	"time"

	"google.golang.org/genproto/googleapis/rpc/errdetails"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	_ "google.golang.org/grpc/encoding/gzip" // requests may be packed
	"google.golang.org/grpc/mem"
	rpcstatus "google.golang.org/grpc/status"
	"google.golang.org/grpc/tap"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/types/known/durationpb"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/fault"
	"wraithology/service/store"
)

// raw is an encoded message: it is checked and stored as it is.
type raw struct{ b []byte }

// rawCodec passes messages on without decoding. Its name is that of their format.
type rawCodec struct{}

// Name implements encoding.CodecV2.
func (rawCodec) Name() string { return "proto" }

// Marshal implements encoding.CodecV2.
func (rawCodec) Marshal(v any) (mem.BufferSlice, error) {
	switch m := v.(type) {
	case *raw:
		return mem.BufferSlice{mem.SliceBuffer(m.b)}, nil
	case proto.Message: // the details of an error
		b, err := proto.Marshal(m)
		return mem.BufferSlice{mem.SliceBuffer(b)}, err
	}
	return nil, fmt.Errorf("unknown message type %T", v)
}

// Unmarshal implements encoding.CodecV2.
func (rawCodec) Unmarshal(data mem.BufferSlice, v any) error {
	m, ok := v.(*raw)
	if !ok {
		return fmt.Errorf("unknown message type %T", v)
	}
	m.b = data.Materialize()
	return nil
}

// Server returns a server of OTLP over gRPC.
func (r *Receiver) Server() *grpc.Server {
	s := grpc.NewServer(grpc.ForceServerCodecV2(rawCodec{}), grpc.InTapHandle(r.admit), grpc.MaxConcurrentStreams(callsAtOnce), grpc.MaxRecvMsgSize(MaxRequest), grpc.ConnectionTimeout(10*time.Second))
	for name, kind := range map[string]otlp.Kind{"opentelemetry.proto.collector.trace.v1.TraceService": otlp.SpanRecord, "opentelemetry.proto.collector.logs.v1.LogsService": otlp.LogRecord} {
		s.RegisterService(&grpc.ServiceDesc{ServiceName: name, HandlerType: (*any)(nil), Methods: []grpc.MethodDesc{{
			MethodName: "Export",
			Handler: func(_ any, ctx context.Context, decode func(any) error, _ grpc.UnaryServerInterceptor) (any, error) {
				from, ok := ctx.Value(senderKey{}).(store.Sender)
				if !ok {
					return nil, r.rpcError(ctx, fault.UnknownToken)
				}
				var request raw
				if err := decode(&request); err != nil {
					return nil, err
				}
				done, err := r.take(ctx, from, request.b, kind)
				if err != nil {
					return nil, r.rpcError(ctx, err)
				}
				return &raw{done.answer(false, kind)}, nil
			},
		}}}, struct{}{})
	}
	return s
}

type senderKey struct{}

// callsAtOnce limits the calls whose messages are read or in memory at the same time.
const callsAtOnce = 16

// checkWait limits the time to check a token: the connection waits for it.
const checkWait = 2 * time.Second

// admit checks the token of a call before its message is read.
func (r *Receiver) admit(ctx context.Context, call *tap.Info) (context.Context, error) {
	token := ""
	if values := call.Header.Get("authorization"); len(values) > 0 {
		token = values[0]
	}
	checking, cancel := context.WithTimeout(ctx, checkWait)
	defer cancel()
	from, err := r.Sender(checking, token)
	if err == nil && !r.calls.TryAcquire(1) {
		err = fault.Busy
	}
	if err != nil {
		return ctx, r.rpcError(ctx, err)
	}
	context.AfterFunc(ctx, func() { r.calls.Release(1) }) // it ends with the call
	return context.WithValue(ctx, senderKey{}, from), nil
}

// rpcError converts an error to a status with the details of the protocol.
func (r *Receiver) rpcError(ctx context.Context, err error) error {
	_, code := status(err)
	text := err.Error()
	if code == codes.Unavailable && !errors.Is(err, fault.Busy) {
		r.log.ErrorContext(ctx, "a report could not be taken", "error", err)
		text = "it could not be written; nothing that was acknowledged is lost, try again"
	}
	s := rpcstatus.New(code, text)
	if code == codes.Unavailable {
		if detailed, err := s.WithDetails(&errdetails.RetryInfo{RetryDelay: durationpb.New(retryAfter * time.Second)}); err == nil {
			s = detailed
		}
	}
	return s.Err()
}
