package api

import (
	"slices"
	"testing"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/policy"
)

// The codes of the wire are those of the core: a client that compares with one means the same.
func TestCodes(t *testing.T) {
	for _, pairs := range [][2][]string{
		{texts(change.CreateDatabase, change.AlterDatabase, change.DropDatabase, change.RenameDatabase,
			change.EndSessions, change.MarkServer, change.CreateAccount, change.AlterAccount, change.RenameAccount,
			change.SetPassword, change.DropAccount, change.SetAsideAccount, change.GrantRole,
			change.RevokeRole, change.GrantPrivilege,
			change.RevokePrivilege),
			{wire.KindCreateDatabase, wire.KindAlterDatabase, wire.KindDropDatabase, wire.KindRenameDatabase,
				wire.KindEndSessions, wire.KindMarkServer, wire.KindCreateAccount, wire.KindAlterAccount,
				wire.KindRenameAccount, wire.KindSetPassword, wire.KindDropAccount, wire.KindSetAsideAccount,
				wire.KindGrantRole,
				wire.KindRevokeRole, wire.KindGrantPrivilege, wire.KindRevokePrivilege}},
		{texts(change.Draft, change.Waiting, change.Running, change.Done, change.Reverted,
			change.Stuck, change.Declined, change.Withdrawn, change.Expired),
			{wire.StateDraft, wire.StateWaiting, wire.StateRunning, wire.StateDone,
				wire.StateReverted, wire.StateStuck, wire.StateDeclined, wire.StateWithdrawn, wire.StateExpired}},
		{texts(change.Stop, change.Caution, change.Note), {wire.LevelStop, wire.LevelCaution, wire.LevelNote}},
		{texts(clearing.Classes...), {wire.ClassIdle, wire.ClassEnding, wire.ClassBusy, wire.ClassInTransaction,
			wire.ClassWritten, wire.ClassHidden, wire.ClassOwn, wire.ClassEngine, wire.ClassWorker, wire.ClassBackup,
			wire.ClassReplication}},
		{texts(clearing.Waiting, clearing.Closing, clearing.Cleared, clearing.GivenUp),
			{wire.PhaseWaiting, wire.PhaseEnding, wire.PhaseCleared, wire.PhaseGivenUp}},
		{texts(change.Generated, change.Given, change.NoPassword),
			{wire.PasswordGenerated, wire.PasswordGiven, wire.PasswordNone}},
		{texts(policy.View, policy.Request, policy.Run, policy.Admin),
			{wire.PermissionView, wire.PermissionRequest, wire.PermissionRun, wire.PermissionAdmin}},
	} {
		if !slices.Equal(pairs[0], pairs[1]) {
			t.Errorf("the core has %q, the wire %q", pairs[0], pairs[1])
		}
	}
}

func texts[T ~string](list ...T) []string {
	var out []string
	for _, x := range list {
		out = append(out, string(x))
	}
	return out
}
