package service

import (
	"encoding/json"

	"ydrion/store"
	"ydrion/wire"
)

// all makes what goes over the interface of rows.
func all[Row, Wire any](rows []Row, of func(Row) Wire) []Wire {
	out := make([]Wire, len(rows))
	for i, r := range rows {
		out[i] = of(r)
	}
	return out
}

// Rows and what is made of them have the same members, but for those that stay in the house.

func pickupOf(p store.Pickup) wire.Pickup          { return wire.Pickup(p) }
func laneOf(l store.Lane) wire.Lane                { return wire.Lane(l) }
func actOf(a store.Act) wire.Act                   { return wire.Act(a) }
func alertOf(a store.Alert) wire.Alert             { return wire.Alert(a) }
func expectedOf(e store.Expected) wire.Expected    { return wire.Expected(e) }
func legalHoldOf(h store.LegalHold) wire.LegalHold { return wire.LegalHold(h) }
func nodeOf(n store.NodeView) wire.NodeView        { return wire.NodeView(n) }

// runOf leaves out where outputs stand hidden until they are published.
func runOf(r store.Run) wire.Run {
	return wire.Run{ID: r.ID, Pickup: r.Pickup, Route: r.Route, Revision: r.Revision, Number: r.Number, State: r.State, SameAs: r.SameAs, Again: r.Again,
		Now: r.Now, StartedAt: r.StartedAt, CommittedAt: r.CommittedAt, EndedAt: r.EndedAt, In: r.In, Good: r.Good, Rejected: r.Rejected, Filtered: r.Filtered, Merged: r.Merged,
		Warnings: r.Warnings, Bytes: r.Bytes, Whole: r.Whole, Findings: r.Findings, Deliveries: all(r.Deliveries, deliveryOf), Outputs: r.Outputs, Overtaken: r.Overtaken,
		Key: r.Key, Files: all(r.Of, runFileOf), Branches: all(r.Branches, func(b store.BranchOf) wire.BranchCount { return wire.BranchCount(b) })}
}

func lookupOf(v store.Version) wire.Lookup {
	return wire.Lookup{Name: v.Name, Version: v.Version, At: v.At, SHA256: v.SHA256, Rows: v.Rows, Size: v.Size, Route: v.Route, Run: v.Run, Pickup: v.Pickup}
}

func runFileOf(f store.OfRun) wire.RunFile {
	return wire.RunFile{Pickup: f.Pickup, Name: f.Name, Size: f.Size, State: f.State, Part: string(f.Part), In: f.In, Good: f.Good, Rejected: f.Rejected, Filtered: f.Filtered, Merged: f.Merged, Warnings: f.Warnings, Whole: f.Whole}
}

// deliveryOf leaves out its hidden name and the folder that held it.
func deliveryOf(d store.Delivery) wire.Delivery {
	return wire.Delivery{Run: d.Run, Ord: d.Ord, Kind: d.Kind, Output: d.Output, Folder: d.Folder, Name: d.Name, Size: d.Size, SHA256: d.SHA256,
		Records: d.Records, FirstRecord: d.FirstRecord, State: d.State, Reason: d.Reason, PublishedAt: d.PublishedAt, Tries: d.Tries, NextTry: d.NextTry, Receipt: d.Receipt, Said: saidOf(d.Said)}
}

// saidOf is what goes with an output; nil if nothing does.
func saidOf(kept string) map[string]string {
	var out map[string]string
	if kept != "" && json.Unmarshal([]byte(kept), &out) != nil {
		return map[string]string{"": kept} // it is shown as it is kept
	}
	return out
}

func rejectOf(r store.Reject) wire.Reject {
	return wire.Reject{Record: r.Record, Line: r.Line, Findings: r.Findings, Raw: string(r.Raw), File: r.File}
}
