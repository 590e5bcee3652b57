package records

import (
	"fmt"
	"reflect"
	"testing"
	"time"
)

func TestPiecesKeepTheirArguments(t *testing.T) {
	seen := write("m.project IN ?", listOf([]string{"heat", "valves"}))
	for _, c := range []struct {
		name string
		got  piece
		text string
		args []any
	}{
		{"plain", write("a = ? AND b < ?", 1, "x"), "a = ? AND b < ?", []any{1, "x"}},
		{"a list", seen, "m.project IN (?,?)", []any{"heat", "valves"}},
		{"an empty list", write("a IN ?", list{}), "a IN ()", nil},
		{
			"a piece between values", write("a = ? AND ? AND b = ?", 1, seen, 2),
			"a = ? AND m.project IN (?,?) AND b = ?",
			[]any{1, "heat", "valves", 2},
		},
		{
			"pieces in pieces", write("x IN (?) AND y = ?", write("SELECT id FROM t WHERE ?", seen), 3),
			"x IN (SELECT id FROM t WHERE m.project IN (?,?)) AND y = ?",
			[]any{"heat", "valves", 3},
		},
		{"nothing", write("a = ? ? LIMIT ?", 1, when(false, "AND b = ?", 2), 3), "a = ?  LIMIT ?", []any{1, 3}},
		{
			"something", write("a = ? ? LIMIT ?", 1, when(true, "AND b = ?", 2), 3),
			"a = ? AND b = ? LIMIT ?",
			[]any{1, 2, 3},
		},
		{"holds for all", write("? AND b", orAll(false, "c = ?", 1)), "1 AND b", nil},
		{"more after it", write("a = ?", 1).plus(" AND b IN ?", list{2, 3}), "a = ? AND b IN (?,?)", []any{1, 2, 3}},
	} {
		if c.got.text != c.text || len(c.got.args)+len(c.args) > 0 && !reflect.DeepEqual(c.got.args, c.args) {
			t.Errorf("%s: %q %v", c.name, c.got.text, c.got.args)
		}
	}
	// Two pieces that go on from one do not write into each other.
	one := write("a = ?", 1).plus("")
	first, second := one.plus(" AND b = ?", 2), one.plus(" AND c = ?", 3)
	if first.args[1] != 2 || second.args[1] != 3 {
		t.Errorf("%v %v", first, second)
	}
	for _, bad := range []func(){
		func() { write("a = ?") },
		func() { write("a", 1) },
		func() { write("a = ? AND ?", seen) },
		func() { write("a = ?", seen, 1) },
	} {
		func() {
			defer func() {
				if recover() == nil {
					t.Error("a wrong number of arguments is not noticed")
				}
			}()
			bad()
		}()
	}
}

func statementsArePreparedOnce(t *testing.T, db *DB) {
	ctx := t.Context()
	put := func(name string) error {
		return db.Write(ctx, Everything, func(r View) error {
			return r.PutSetting(ctx, name, name, "runa", time.Now())
		})
	}
	if err := put("one"); err != nil {
		t.Fatal(err)
	}
	after := len(db.writes.known)
	for i := range 20 {
		if err := put(fmt.Sprint(i)); err != nil {
			t.Fatal(err)
		}
		if _, err := db.Read(Everything).Projects(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if after == 0 || len(db.writes.known) != after || len(db.writes.wanted) != 0 || len(db.reads.known) != 1 {
		t.Errorf("%d statements for changes, then %d; %d for reading", after, len(db.writes.known), len(db.reads.known))
	}
	// However many texts there are, few are kept.
	for i := range mostPrepared + 20 {
		var n int
		if err := db.Read(Everything).q.row(ctx, fmt.Sprintf("SELECT %d", i)).Scan(&n); err != nil || n != i {
			t.Fatal(n, err)
		}
	}
	if len(db.reads.known) > mostPrepared {
		t.Errorf("%d statements are kept", len(db.reads.known))
	}
	// A wrong one says what is wrong, in a transaction and outside of one.
	if _, err := db.Read(Everything).q.rows(ctx, "SELECT nothing FROM nowhere"); err == nil {
		t.Error("no error")
	}
	if err := db.Write(ctx, Everything, func(r View) error {
		_, err := r.q.exec(ctx, "DELETE FROM nowhere")
		return err
	}); err == nil {
		t.Error("no error")
	}
}
