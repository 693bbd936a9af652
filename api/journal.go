package api

import (
	"context"
	"encoding/json"
	"errors"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
)

func (h *Handler) registerJournal() {
	register(h, op{method: "GET", path: "/journal", id: "list-journal", summary: "Read the journal, the newest first",
		permission: policy.View},
		func(ctx context.Context, in *struct {
			Change   uint64 `query:"change"`
			Operator string `query:"operator" maxLength:"64"`
			Action   string `query:"action" maxLength:"40" doc:"What was done, or its first word: change for change.run too."`
			Subject  string `query:"subject" maxLength:"1000" doc:"An address; what lies beneath it belongs to it."`
			Period
			Before uint64 `query:"before" doc:"Read on: entries with a smaller number."`
			Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[wire.Journal], error) {
			list, err := h.Records.Journal(ctx,
				journal.Filter{Change: in.Change, Operator: in.Operator, Action: in.Action, Subject: in.Subject,
					Since: in.Since, Until: in.Until, Before: in.Before, Limit: in.Limit + 1})
			if err != nil {
				return nil, err
			}
			var out wire.Journal
			if len(list) > in.Limit {
				list = list[:in.Limit]
				out.Next = list[in.Limit-1].Seq
			}
			out.Entries = each(list, renderEntry)
			return answer(out), nil
		})
	register(h, op{method: "GET", path: "/journal/check", id: "check-journal",
		summary: "Walk the whole chain: is an entry missing or altered?", permission: policy.View},
		func(ctx context.Context, in *struct {
			Since string `query:"since" maxLength:"400" doc:"A checkpoint that was kept elsewhere: what was there then must still be there."`
		}) (*body[wire.JournalCheck], error) {
			n, broken, err := h.Records.VerifyJournal(ctx, in.Since)
			if errors.Is(err, journal.ErrCheckpoint) {
				return nil, problemField("since", err.Error())
			}
			if err != nil {
				return nil, err
			}
			now, err := h.Records.Checkpoint(ctx)
			if err != nil {
				return nil, err
			}
			out := wire.JournalCheck{Entries: n, Whole: broken == nil, Checkpoint: now.String()}
			if broken != nil {
				out.Broken = broken.Error()
			}
			return answer(out), nil
		})
}

func renderEntry(e journal.Entry) wire.JournalEntry {
	out := wire.JournalEntry{Seq: e.Seq, At: e.At, Operator: e.Operator, Action: e.Action, Subject: e.Subject,
		Change: e.Change, Token: e.Token, Hash: e.Hash}
	if json.Valid([]byte(e.Detail)) {
		out.Detail = json.RawMessage(e.Detail)
	}
	return out
}
