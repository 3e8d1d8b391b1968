package testbed

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// words are those that records may have.
var words = map[string]string{
	"pickups.state":    "claimed,taken,committed,delivered,rejected,set aside,held,uncertain,withdrawn",
	"pickups.event":    "arrived,changed,gone",
	"pickups.origin":   "inbox,left,handed",
	"runs.state":       "working,committed,published,failed",
	"run_pickups.part": "read,table,marker,older",
	"deliveries.kind":  "good,rejected,findings,report",
	"deliveries.state": "open,published,uncertain,abandoned,overtaken",
	"fetches.state":    "claimed,fetched,placed,done,known,withdrawn",
}

// holdWords looks through the records of all databases that tests have made, and says which have a word that there is not, or a run
// that does not balance.
func holdWords() (wrong []string) {
	var asks []string
	for column, known := range words {
		table, name, _ := strings.Cut(column, ".")
		asks = append(asks, fmt.Sprintf(`select '%s is ' || %s from %s where %s <> all (string_to_array('%s', ','))`, column, name, table, name, known))
	}
	asks = append(asks, `select 'run ' || id || ' does not balance' from runs where state in ('committed', 'published') and records_in <> good + rejected + filtered + merged`)
	for n := range number.Load() {
		func() {
			ctx := context.Background()
			conn, err := pgx.Connect(ctx, address(numbered(n+1)))
			if err != nil {
				wrong = append(wrong, err.Error())
				return
			}
			defer conn.Close(ctx) //nolint: it was only read
			var there bool
			if err := conn.QueryRow(ctx, `select to_regclass('fetches') is not null`).Scan(&there); err != nil {
				wrong = append(wrong, err.Error())
			}
			if !there {
				return // nothing has been made in it
			}
			rows, err := conn.Query(ctx, strings.Join(asks, " union "))
			if err != nil {
				wrong = append(wrong, err.Error())
				return
			}
			said, err := pgx.CollectRows(rows, pgx.RowTo[string])
			if wrong = append(wrong, said...); err != nil {
				wrong = append(wrong, err.Error())
			}
		}()
	}
	return wrong
}
