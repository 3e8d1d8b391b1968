package store

import (
	"context"
	"fmt"
	"strings"
)

// PlanOfEarlier is how the database looks up the pickups before another.
func (s *Store) PlanOfEarlier(ctx context.Context) (string, error) {
	c, err := s.quick.Connx(ctx)
	if err != nil {
		return "", err
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, `prepare b(text[], text, bigint[]) as select t.id, b.id, k.id from unnest($1, $3) as t(sum, id) `+earlier("t.sum", "t.sum", "$2", "t.id")); err != nil {
		return "", err
	}
	var plan []string
	if err := c.SelectContext(ctx, &plan, `explain (costs off) execute b(array['x'], 'orders', array[9999999]::bigint[])`); err != nil {
		return "", err
	}
	_, err = c.ExecContext(ctx, `deallocate b`)
	return strings.Join(plan, "\n"), err
}

// Plans are how the database goes through the statements that move several pickups, deliveries or fetches on, by name.
func (s *Store) Plans(ctx context.Context) (map[string]string, error) {
	c, err := s.quick.Connx(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	plans := map[string]string{}
	const committed = `1, array[1, 2], array[1, 2], array['', ''], array['[]', '[]'], array[false, false], array[1, 1], array[1, 1], array[0, 0], array[0, 0], array[0, 0], array[1, 1], 2, array[0, 0], array['[]', '[]'], array[0, 0]`
	const taken = `1, 'orders', array[1, 2], array['', ''], array[1, 1], array['r1', 'r1'], array[now(), now()], array[1, 2], array[1, 1], array['read', 'read'], array['', ''], array['', ''], array[false, false], array[0, 0]`
	for name, of := range map[string]struct{ statement, types, values string }{
		"published":            {publish(false), "bigint, bigint[], bigint[]", "1, array[1, 2], array[1, 2]"},
		"published of several": {publish(true), "bigint, bigint[], bigint[]", "1, array[1, 2], array[1, 2]"},
		"committed":            {commit(false), "bigint, bigint[], bigint[], text[], text[], bool[], bigint[], bigint[], bigint[], bigint[], bigint[], bigint[], bigint, int[], text[], bigint[]", committed},
		"committed of several": {commit(true), "bigint, bigint[], bigint[], text[], text[], bool[], bigint[], bigint[], bigint[], bigint[], bigint[], bigint[], bigint, int[], text[], bigint[]", committed},
		"taken":                {take, "bigint, text, bigint[], text[], bigint[], text[], timestamptz[], bigint[], int[], text[], text[], text[], bool[], bigint[]", taken},
		"named":                {naming, "bigint, bigint[], bigint[], int[]", "1, array[1, 2], array[1, 2], array[1, 1]"},
		"refused":              {refused, "bigint[], int[], text[], timestamptz[]", "array[1, 2], array[1, 1], array['', ''], array[now(), now()]"},
		"delayed":              {delay, "bigint, bigint[], text", "1, array[1, 2], ''"},
		"fetched":              {fetched, "bigint, bigint[], text[], bigint[]", "1, array[1, 2], array['', ''], array[1, 1]"},
		"known":                {known, "bigint, bigint[], text[]", "1, array[1, 2], array['known', 'known']"},
		"gone":                 {leave, "bigint[], bigint[]", "array[1, 2], array[3]"},
		"later":                {later, "text, bigint[], int[]", "'orders', array[1, 2], array[1, 1]"},
		"being fetched":        {openOf, "bigint[]", "array[1, 2]"},
	} {
		if _, err := c.ExecContext(ctx, `prepare b(`+of.types+`) as `+of.statement); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		var plan []string
		if err := c.SelectContext(ctx, &plan, `explain (costs off) execute b(`+of.values+`)`); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if _, err := c.ExecContext(ctx, `deallocate b`); err != nil {
			return nil, err
		}
		plans[name] = strings.Join(plan, "\n")
	}
	return plans, nil
}
