package server_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Rows that are always written together are always read together: eight writers with deep changes, deltas and groups of a batch, some of
// which fail half-way and some of which wait for each other in a ring, and two readers. Nobody gets a mistake of ours.
func TestAllOrNothingUnderLoad(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table pair (id int primary key, v text not null);
		create table mate (id int primary key references pair, v text not null, n int not null default 1 check (n > 0));
		insert into pair select i, 'first' from generate_series(1, 4) i; insert into mate select i, 'first' from generate_series(1, 4) i;
		do $$ begin execute format('alter database %I set deadlock_timeout = 20', current_database()); end $$`)
	if _, err := r.Operator.PushDraft(t.Context(), "pairs", "window: pairs\nsource: "+dsn+
		"\nresources: {pairs: {from: pair}, mates: {from: mate}}"); err != nil {
		t.Fatal(err)
	}
	var over atomic.Bool
	var looks, done, refused atomic.Int64
	var readers, writers sync.WaitGroup
	for range 2 {
		readers.Go(func() {
			for !over.Load() {
				l := readList(t, get(t, r, r.Operator.Token, "/draft/pairs/pairs?expand=mate(select=v)&orderby=id"))
				for _, row := range l.Value {
					var mate struct{ V json.RawMessage }
					if err := json.Unmarshal(row["mate"], &mate); err != nil || string(mate.V) != string(row["v"]) {
						t.Errorf("half of a change: %s beside %s", row["v"], row["mate"])
						over.Store(true)
					}
				}
				looks.Add(1)
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	for w := range 8 {
		writers.Go(func() {
			random := rand.New(rand.NewPCG(uint64(w), 5))
			for i := 0; i < 60 && !over.Load(); i++ {
				v, id, other := fmt.Sprintf("%d-%d", w, i), 1+random.IntN(4), 1+random.IntN(4)
				n := random.IntN(4) // 0 breaks the check, after a row has been written
				method, path, body := "PATCH", fmt.Sprintf("/pairs/%d", id), fmt.Sprintf(`{"v":%q,"mate":{"v":%q,"n":%d}}`, v, v, n)
				switch random.IntN(4) {
				case 0: // from the other end
					path, body = fmt.Sprintf("/mates/%d", id), fmt.Sprintf(`{"v":%q,"pair":{"v":%q},"n":%d}`, v, v, n)
				case 1:
					requests := []string{
						fmt.Sprintf(`{"id":"1","atomicityGroup":"g","method":"PATCH","url":"pairs/%d","body":{"v":%q}}`, id, v),
						fmt.Sprintf(`{"id":"2","atomicityGroup":"g","method":"PUT","url":"mates/%d","body":{"v":%q,"n":%d}}`, id, v, n),
						fmt.Sprintf(`{"id":"3","atomicityGroup":"g","method":"PATCH","url":"mates/%d","body":{"v":%q}}`, other, v),
						fmt.Sprintf(`{"id":"4","atomicityGroup":"g","method":"PATCH","url":"pairs","body":{"value":[{"id":%d,"v":%q}]}}`, other, v),
					}
					random.Shuffle(len(requests), func(i, j int) { requests[i], requests[j] = requests[j], requests[i] })
					method, path, body = "POST", "/$batch", `{"requests":[`+strings.Join(requests, ",")+`]}`
				case 2: // only one of them is there
					body = fmt.Sprintf(`{"v":%q,"mate":{"v":%q,"n":1,"no":1}}`, v, v)
				}
				a := write(t, r, r.Operator.Token, method, "/draft/pairs"+path, body)
				switch worst := outcome(t, a); worst {
				case 200, 204:
					done.Add(1)
				case 400, 409, 422, 424:
					refused.Add(1)
				default:
					t.Errorf("%s %s %s: %s %s", method, path, body, a.Status, a.Text)
				}
			}
		})
	}
	writers.Wait()
	over.Store(true)
	readers.Wait()
	if got := column(t, dsn, "select count(*) from pair join mate using (id) where pair.v <> mate.v")[0]; got != "0" {
		t.Errorf("%s pairs are apart", got)
	}
	if looks.Load() < 20 || done.Load() < 50 || refused.Load() < 50 {
		t.Errorf("%d looks, %d done, %d refused: the test shows nothing", looks.Load(), done.Load(), refused.Load())
	}
	t.Logf("%d looks, %d done, %d refused", looks.Load(), done.Load(), refused.Load())
}
