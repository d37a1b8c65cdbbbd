package probe

import (
	"context"
	"fmt"
	"net"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/status"

	"aditus/internal/core/declare"
)

// askGRPC asks by the gRPC health checking protocol. The connection is made anew each time, as a new caller would.
func (p *Prober) askGRPC(ctx context.Context, address string, probe declare.Probe) (reason string) {
	conn, err := grpc.NewClient("passthrough:///"+address, grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithContextDialer(func(ctx context.Context, address string) (net.Conn, error) { return p.dial(ctx, "tcp", address) }))
	if err != nil {
		return "grpc: " + err.Error()
	}
	defer conn.Close()
	answer, err := grpc_health_v1.NewHealthClient(conn).Check(ctx, &grpc_health_v1.HealthCheckRequest{Service: probe.GRPC.Path})
	switch status.Code(err) {
	case codes.OK:
	case codes.DeadlineExceeded:
		return "grpc: no answer within " + probe.Timeout.String()
	case codes.Unimplemented:
		return "grpc: the server does not know the health protocol"
	case codes.NotFound:
		return fmt.Sprintf("grpc: the server knows no service %q", probe.GRPC.Path)
	case codes.Unavailable:
		return "grpc: connection refused"
	default:
		return "grpc: " + status.Code(err).String()
	}
	if answer.Status != grpc_health_v1.HealthCheckResponse_SERVING {
		return "grpc: the server says " + answer.Status.String()
	}
	return ""
}
