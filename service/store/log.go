package store

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// debugLog logs messages of the database library at debug level. Its errors are also returned, and
// the caller decides which ones matter. Values are removed from statements.
type debugLog struct{ to *slog.Logger }

// LogMode implements logger.Interface.
func (l debugLog) LogMode(logger.LogLevel) logger.Interface { return l }

// Info implements logger.Interface.
func (l debugLog) Info(ctx context.Context, format string, args ...any) {
	l.to.DebugContext(ctx, fmt.Sprintf(format, args...))
}

// Warn implements logger.Interface.
func (l debugLog) Warn(ctx context.Context, format string, args ...any) {
	l.Info(ctx, format, args...)
}

// Error implements logger.Interface.
func (l debugLog) Error(ctx context.Context, format string, args ...any) {
	l.Info(ctx, format, args...)
}

// Trace implements logger.Interface.
func (l debugLog) Trace(ctx context.Context, begin time.Time, statement func() (string, int64), err error) {
	if !l.to.Enabled(ctx, slog.LevelDebug) {
		return
	}
	sql, rows := statement()
	l.to.DebugContext(ctx, "database statement", "sql", sql, "rows", rows, "took", time.Since(begin), "error", err)
}

// ParamsFilter implements gorm.ParamsFilter.
func (l debugLog) ParamsFilter(_ context.Context, sql string, _ ...any) (string, []any) {
	return sql, nil
}

var _ gorm.ParamsFilter = debugLog{}
