// Package turns does something again and again.
package turns

import (
	"context"
	"log/slog"
	"time"
)

// Take does something, again so long after it was done, until the context ends. What fails is said
// once until it works again.
func Take(ctx context.Context, every time.Duration, log *slog.Logger, what string, do func(context.Context) error) {
	failing := false
	for {
		err := do(ctx)
		if err != nil && !failing && ctx.Err() == nil {
			log.Error(what, "error", err)
		}
		failing = err != nil
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
	}
}
