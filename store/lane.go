package store

import (
	"context"
	"database/sql"
	"errors"
	"sync"
)

// mostKept bounds the statements that are kept prepared: those of lists differ with their filters.
const mostKept = 400

// lane is one connection that keeps its statements prepared: parsing them takes as long as running
// most.
type lane struct {
	conn *sql.Conn
	kept map[string]*sql.Stmt
}

func newLane(ctx context.Context, db *sql.DB) (*lane, error) {
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	return &lane{conn, map[string]*sql.Stmt{}}, nil
}

func (l *lane) close() error {
	var errs []error
	for _, st := range l.kept {
		errs = append(errs, st.Close())
	}
	return errors.Join(append(errs, l.conn.Close())...)
}

// statement is nil where one is not kept.
func (l *lane) statement(ctx context.Context, query string) *sql.Stmt {
	if st, ok := l.kept[query]; ok {
		return st
	}
	if len(l.kept) >= mostKept {
		return nil
	}
	st, err := l.conn.PrepareContext(ctx, query)
	if err != nil {
		return nil // who runs it meets the same error
	}
	l.kept[query] = st
	return st
}

// QueryContext, QueryRowContext and ExecContext make a lane a querier.
func (l *lane) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if st := l.statement(ctx, query); st != nil {
		return st.QueryContext(ctx, args...)
	}
	return l.conn.QueryContext(ctx, query, args...)
}

func (l *lane) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if st := l.statement(ctx, query); st != nil {
		return st.QueryRowContext(ctx, args...)
	}
	return l.conn.QueryRowContext(ctx, query, args...)
}

func (l *lane) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if st := l.statement(ctx, query); st != nil {
		return st.ExecContext(ctx, args...)
	}
	return l.conn.ExecContext(ctx, query, args...)
}

// pool reads on any connection of a database, with statements kept prepared on each.
type pool struct {
	*sql.DB
	mu   sync.RWMutex
	kept map[string]*sql.Stmt
}

func newPool(db *sql.DB) *pool { return &pool{DB: db, kept: map[string]*sql.Stmt{}} }

func (p *pool) statement(ctx context.Context, query string) *sql.Stmt {
	p.mu.RLock()
	st, n := p.kept[query], len(p.kept)
	p.mu.RUnlock()
	if st != nil || n >= mostKept {
		return st
	}
	st, err := p.PrepareContext(ctx, query)
	if err != nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if other := p.kept[query]; other != nil { // somebody else was first
		_ = st.Close()
		return other
	}
	p.kept[query] = st
	return st
}

// QueryContext and QueryRowContext take a kept statement; nothing is changed on a pool.
func (p *pool) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if st := p.statement(ctx, query); st != nil {
		return st.QueryContext(ctx, args...)
	}
	return p.DB.QueryContext(ctx, query, args...)
}

func (p *pool) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if st := p.statement(ctx, query); st != nil {
		return st.QueryRowContext(ctx, args...)
	}
	return p.DB.QueryRowContext(ctx, query, args...)
}

// Close closes the statements and the database.
func (p *pool) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	var errs []error
	for _, st := range p.kept {
		errs = append(errs, st.Close())
	}
	return errors.Join(append(errs, p.DB.Close())...)
}
