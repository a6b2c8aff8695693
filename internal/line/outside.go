package line

import (
	"context"
	"net"

	"github.com/pion/stun/v3"
)

// AnswerOutside answers STUN binding requests (RFC 8489) with the address they came from,
// until the context ends. Answers are smaller than twice the question, and no question is
// answered that has less than a whole header, so that it is no use against others.
func AnswerOutside(ctx context.Context, conn net.PacketConn) error {
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	room := make([]byte, 1500)
	for {
		n, from, err := conn.ReadFrom(room)
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		question := &stun.Message{Raw: append([]byte(nil), room[:n]...)}
		at, ok := from.(*net.UDPAddr)
		if !ok || question.Decode() != nil || question.Type != stun.BindingRequest {
			continue
		}
		answer, err := stun.Build(stun.NewTransactionIDSetter(question.TransactionID), stun.BindingSuccess, &stun.XORMappedAddress{IP: at.IP, Port: at.Port})
		if err != nil {
			continue
		}
		_, _ = conn.WriteTo(answer.Raw, from) // it may be gone
	}
}
