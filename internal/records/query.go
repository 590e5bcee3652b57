package records

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
)

// piece is a part of a query together with the arguments that stand in it. Queries are put
// together of pieces and never searched or replaced, so no argument can lose its place.
type piece struct {
	text string
	args []any
}

// list are values that stand in a query as (?, ?, …).
type list []any

// listOf is a list of some items.
func listOf[T any](items []T) list {
	out := make(list, len(items))
	for i, x := range items {
		out[i] = x
	}
	return out
}

// write makes a piece of a text in which every question mark stands for the next argument: a
// value is bound, a piece takes its place, and a list becomes (?, ?, …). It panics when there
// are more or fewer arguments than question marks, which is a mistake in the program.
func write(text string, args ...any) piece {
	plain := true
	for _, a := range args {
		switch a.(type) {
		case piece, list:
			plain = false
		}
	}
	if plain {
		if strings.Count(text, "?") != len(args) {
			panic(fmt.Sprintf("%d arguments for: %s", len(args), text))
		}
		return piece{text, args}
	}
	var b strings.Builder
	var out []any
	for _, a := range args {
		before, after, found := strings.Cut(text, "?")
		if !found {
			panic(fmt.Sprintf("%d arguments, which is too many: %s", len(args), text))
		}
		b.WriteString(before)
		switch a := a.(type) {
		case piece:
			b.WriteString(a.text)
			out = append(out, a.args...)
		case list:
			b.WriteString("(" + strings.TrimSuffix(strings.Repeat("?,", len(a)), ",") + ")")
			out = append(out, a...)
		default:
			b.WriteString("?")
			out = append(out, a)
		}
		text = after
	}
	if strings.Contains(text, "?") {
		panic(fmt.Sprintf("%d arguments, which is too few: …%s", len(args), text))
	}
	b.WriteString(text)
	return piece{b.String(), out}
}

// plus is a piece with another after it.
func (p piece) plus(text string, args ...any) piece {
	more := write(text, args...)
	return piece{p.text + more.text, append(p.args[:len(p.args):len(p.args)], more.args...)}
}

// when is the piece if a condition holds, else nothing.
func when(holds bool, text string, args ...any) piece {
	if !holds {
		return piece{}
	}
	return write(text, args...)
}

// orAll is a condition that narrows down if it is wanted, and else holds for all.
func orAll(narrow bool, text string, args ...any) piece {
	if !narrow {
		return write("1")
	}
	return write(text, args...)
}

// querier is what reading and writing have in common.
type querier interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// asker asks by pieces, with statements that are prepared once.
type asker struct {
	q     querier
	known *statements
	// tx is the transaction that it asks in; nil outside of one.
	tx *sql.Tx
}

// statement is the prepared statement of a text; nil when there is none.
func (a asker) statement(ctx context.Context, text string) *sql.Stmt {
	stmt := a.known.find(ctx, text, a.tx != nil)
	if stmt != nil && a.tx != nil {
		return a.tx.StmtContext(ctx, stmt)
	}
	return stmt
}

// exec carries out a change.
func (a asker) exec(ctx context.Context, text string, args ...any) (sql.Result, error) {
	p := write(text, args...)
	if stmt := a.statement(ctx, p.text); stmt != nil {
		return stmt.ExecContext(ctx, p.args...)
	}
	return a.q.ExecContext(ctx, p.text, p.args...)
}

// rows reads rows.
func (a asker) rows(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	p := write(text, args...)
	if stmt := a.statement(ctx, p.text); stmt != nil {
		return stmt.QueryContext(ctx, p.args...)
	}
	return a.q.QueryContext(ctx, p.text, p.args...)
}

// row reads one row.
func (a asker) row(ctx context.Context, text string, args ...any) *sql.Row {
	p := write(text, args...)
	if stmt := a.statement(ctx, p.text); stmt != nil {
		return stmt.QueryRowContext(ctx, p.args...)
	}
	return a.q.QueryRowContext(ctx, p.text, p.args...)
}

// mostPrepared is how many statements are kept prepared; a text beyond that is parsed each time.
const mostPrepared = 500

// statements are those that are prepared on a database, by their text. Preparing takes longer
// than running most of them.
type statements struct {
	on    *sql.DB
	mu    sync.Mutex
	known map[string]*sql.Stmt
	// wanted are texts that were used in a transaction and are not prepared yet: the connection
	// is taken while one goes on.
	wanted map[string]bool
}

func newStatements(on *sql.DB) *statements {
	return &statements{on: on, known: map[string]*sql.Stmt{}, wanted: map[string]bool{}}
}

// find finds the statement of a text, and outside of a transaction prepares it.
func (s *statements) find(ctx context.Context, text string, inTx bool) *sql.Stmt {
	s.mu.Lock()
	stmt, known := s.known[text]
	full := len(s.known)+len(s.wanted) >= mostPrepared
	if !known && !full && inTx {
		s.wanted[text] = true
	}
	s.mu.Unlock()
	if known || full || inTx {
		return stmt
	}
	return s.prepare(ctx, text)
}

// prepare prepares the statement of a text. One that cannot be is nil, and asking without it
// says why. Nothing is locked meanwhile, because a connection may have to be waited for.
func (s *statements) prepare(ctx context.Context, text string) *sql.Stmt {
	stmt, err := s.on.PrepareContext(ctx, text)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if before, known := s.known[text]; known { // somebody else was faster
		_ = stmt.Close()
		return before
	}
	s.known[text] = stmt
	return stmt
}

// learn prepares what was used in a transaction that is over now, for the next.
func (s *statements) learn(ctx context.Context) {
	s.mu.Lock()
	texts := slices.Collect(maps.Keys(s.wanted))
	clear(s.wanted)
	s.mu.Unlock()
	for _, text := range texts {
		s.prepare(ctx, text)
	}
}

// close ends all statements.
func (s *statements) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, stmt := range s.known {
		_ = stmt.Close()
	}
	clear(s.known)
}
