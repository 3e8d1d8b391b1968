package store

import (
	"context"
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
