package describe

import (
	"fmt"
	"testing"

	"lastboard/internal/engine"
)

func TestOddRows(t *testing.T) {
	r := &engine.Rows{Columns: []string{"id", "name"}}
	for i, v := range []any{"Selja", "Runde", nil, "Sula", "Stadlandet", "Florø", nil} {
		r.Values = append(r.Values, []any{i, v})
	}
	for n, want := range map[int]string{0: "[]", 1: "[[2 <nil>]]", 2: "[[2 <nil>] [4 Stadlandet]]",
		3: "[[2 <nil>] [3 Sula] [4 Stadlandet]]", 4: "[[0 Selja] [2 <nil>] [3 Sula] [4 Stadlandet]]"} {
		if got := fmt.Sprint(Odd(r, 1, n).Values); got != want {
			t.Errorf("%d rows are %s, wanted %s", n, got, want)
		}
	}
	if all := Odd(r, 1, 9); all != r {
		t.Errorf("of few rows not all are shown: %v", all.Values)
	}
	r.Values = [][]any{{1, "a"}, {2, "b"}, {3, "c"}}
	if got := fmt.Sprint(Odd(r, 1, 2).Values); got != "[[1 a] [2 b]]" {
		t.Errorf("none is odd, and the first are not shown: %s", got)
	}
}
