package run

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"ydrion/deliver"
	"ydrion/store"
	"ydrion/workspace"
)

// Outputs that take the place of what has their name come out in the order of their runs, unless something goes wrong with one:
// when it is tried again, a later one may be there already. That stays, as if all had come out in their order.

// leaving is an output that is about to come out.
type leaving struct {
	it *item
	*store.Delivery
}

// overtaken are outputs of which a later one is there, or may be.
type overtaken map[outputOf]store.Later

type outputOf struct {
	run int64
	ord int
}

// whenTaken is what happens if the name of an output is taken.
func whenTaken(it *item, d *store.Delivery) workspace.WhenTaken {
	if d.Kind != "good" {
		return it.compiled.Rejected.Taken
	}
	if to := it.compiled.Destinations(); d.Output < len(to) {
		return to[d.Output].Taken
	}
	return workspace.Count
}

// takes tells whether an output takes the place of what has its name.
func (c *Conductor) takes(it *item, d *store.Delivery) bool {
	return whenTaken(it, d).Replaces() || c.puts(d.Folder)
}

// inTurn waits until nobody else of this service is about to give outputs the names of these, where they take the place of what has
// them, and finds out which of these a later one has overtaken. Over is called when they are out, or are not.
func (c *Conductor) inTurn(all []leaving) (_ overtaken, over func(), _ error) {
	var takers []leaving
	var names []string
	newest := int64(0)
	for _, o := range all {
		if c.takes(o.it, o.Delivery) {
			takers, names = append(takers, o), append(names, filepath.Join(o.Folder, o.Name))
			newest = max(newest, o.Run)
		}
	}
	if len(takers) == 0 {
		return nil, func() {}, nil
	}
	for known := c.newest.Load(); known < newest && !c.newest.CompareAndSwap(known, newest); {
		known = c.newest.Load()
	}
	slices.Sort(names)
	var turns []func()
	for _, name := range slices.Compact(names) {
		turns = append(turns, c.e.names.Take(name))
	}
	over = func() {
		for _, turn := range turns {
			turn()
		}
	}
	var ask []store.DeliveryOf
	for _, o := range takers {
		// What was begun here and has nothing behind it has not been overtaken.
		if o.it.resumed || o.Run < c.newest.Load() {
			ask = append(ask, store.DeliveryOf{RunOf: store.RunOf{Run: o.Run, Pickup: o.it.Pickup}, Ord: o.Ord})
		}
	}
	if len(ask) == 0 {
		return nil, over, nil
	}
	later, err := c.e.Store.Later(c.work, c.name, ask)
	if err != nil {
		over()
		return nil, func() {}, err
	}
	out := overtaken{}
	for _, l := range later {
		out[outputOf{l.Run, l.Ord}] = l
	}
	return out, over, nil
}

// overtaker gives the later output that has the place of one, if one has. It is an error if nobody knows yet.
func (c *Conductor) overtaker(o overtaken, d *store.Delivery) (*store.Later, error) {
	l, is := o[outputOf{d.Run, d.Ord}]
	if !is {
		return nil, nil
	}
	perhaps := l.Named || l.State == "uncertain"
	if l.State == "open" && l.Temporary != "" && !perhaps {
		_, err := c.fs.Look(l.Temporary)
		perhaps = errors.Is(err, fs.ErrNotExist)
	}
	switch {
	case l.State == "published":
		return &l, nil
	case perhaps:
		return nil, fmt.Errorf("%s waits for that of pickup %d (%s), which came later and may be there already", d.Name, l.Pickup, l.File)
	}
	return nil, nil // it comes, and takes the place of this one
}

// formerly gives an output the name under which it would be kept if the later one had come behind it.
func (c *Conductor) formerly(it *item, d *store.Delivery, by *store.Later) error {
	d.Name = deliver.Formerly(d.Name, by.By)
	return c.e.Store.Rename(c.work, c.node.ID, store.RunOf{Run: d.Run, Pickup: it.Pickup}, d.Ord, d.Name)
}

// overtakenBy is what is recorded of an output that does not come out.
func overtakenBy(it *item, d *store.Delivery, by *store.Later) store.OvertakenAt {
	return store.OvertakenAt{DeliveryOf: store.DeliveryOf{RunOf: store.RunOf{Run: d.Run, Pickup: it.Pickup}, Ord: d.Ord}, Reason: fmt.Sprintf("that of pickup %d (%s), which came later, is there", by.Pickup, by.File)}
}

// yielded records outputs that have been overtaken, and removes what was written of them.
func (c *Conductor) yielded(passed []store.OvertakenAt, written []string) error {
	if len(passed) == 0 {
		return nil
	}
	if err := c.e.Store.Overtaken(c.work, passed); err != nil {
		return err
	}
	c.e.Log.Warn("outputs are not delivered, as those of later files are there", "route", c.name, "outputs", len(passed), "first_run", passed[0].Run, "because", passed[0].Reason)
	for _, f := range written {
		c.fs.Remove(f) //nolint: it is swept later
	}
	return nil
}
