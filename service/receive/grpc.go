package receive

import (
	"context"
	"fmt"
	"time"

	"google.golang.org/genproto/googleapis/rpc/errdetails"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	_ "google.golang.org/grpc/encoding/gzip" // requests may be packed
	"google.golang.org/grpc/mem"
	"google.golang.org/grpc/metadata"
	rpcstatus "google.golang.org/grpc/status"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/types/known/durationpb"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
)

// raw is a message as it came: it is checked where it lies, and kept so.
type raw struct{ b []byte }

// rawCodec hands messages on as they are. Its name is that of the form they have.
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
	return nil, fmt.Errorf("a message of type %T is not known", v)
}

// Unmarshal implements encoding.CodecV2.
func (rawCodec) Unmarshal(data mem.BufferSlice, v any) error {
	m, ok := v.(*raw)
	if !ok {
		return fmt.Errorf("a message of type %T is not known", v)
	}
	m.b = data.Materialize()
	return nil
}

// Server returns a server of OTLP over gRPC.
func (r *Receiver) Server() *grpc.Server {
	s := grpc.NewServer(grpc.ForceServerCodecV2(rawCodec{}), grpc.MaxRecvMsgSize(MaxRequest), grpc.ConnectionTimeout(10*time.Second))
	for name, kind := range map[string]otlp.Kind{"opentelemetry.proto.collector.trace.v1.TraceService": otlp.SpanRecord, "opentelemetry.proto.collector.logs.v1.LogsService": otlp.LogRecord} {
		s.RegisterService(&grpc.ServiceDesc{ServiceName: name, HandlerType: (*any)(nil), Methods: []grpc.MethodDesc{{
			MethodName: "Export",
			Handler: func(_ any, ctx context.Context, decode func(any) error, _ grpc.UnaryServerInterceptor) (any, error) {
				var request raw
				if err := decode(&request); err != nil {
					return nil, err
				}
				return r.export(ctx, request.b, kind)
			},
		}}}, struct{}{})
	}
	return s
}

func (r *Receiver) export(ctx context.Context, request []byte, kind otlp.Kind) (*raw, error) {
	token := ""
	if md, ok := metadata.FromIncomingContext(ctx); ok && len(md.Get("authorization")) > 0 {
		token = md.Get("authorization")[0]
	}
	from, err := r.Sender(ctx, token)
	var done result
	if err == nil {
		done, err = r.take(ctx, from, request, kind)
	}
	if err == nil {
		return &raw{done.answer(false, kind)}, nil
	}
	_, code := status(err)
	text := err.Error()
	if code == codes.Unavailable {
		r.log.ErrorContext(ctx, "a report could not be taken", "error", err)
		text = "it could not be written; nothing that was acknowledged is lost, try again"
	}
	s := rpcstatus.New(code, text)
	if code == codes.Unavailable {
		if detailed, err := s.WithDetails(&errdetails.RetryInfo{RetryDelay: durationpb.New(retryAfter * time.Second)}); err == nil {
			s = detailed
		}
	}
	return nil, s.Err()
}
