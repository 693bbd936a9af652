package engine

import (
	"errors"
	"fmt"
	"testing"

	"example.com/genarch/core/change"
)

// TestProve: accounts are tried side by side, told in their order, and one that
// fails makes the whole fail without keeping what the others said.
func TestProve(t *testing.T) {
	accounts := []string{"writer", "reader", "odd\nname"}
	step := change.Step{Args: map[string]string{"accounts": EncodeList(accounts),
		"bundles": EncodeList([]string{"write", "read"})}}
	arrived := make(chan string, len(accounts))
	all := make(chan struct{})
	go func() {
		for range accounts {
			<-arrived
		}
		close(all)
	}()
	rep, err := Prove(step, func(account, bundle string, say func(string)) error {
		arrived <- account
		<-all // nobody goes on before everybody has come
		say(account + " tried as " + bundle)
		return nil
	})
	want := []string{"writer tried as write", "reader tried as read", "odd\nname tried as "}
	if err != nil || len(rep.Messages) != len(want) {
		t.Fatalf("%+v, %v", rep, err)
	}
	for i, m := range rep.Messages {
		if m.Text != want[i] || m.Severity != "PROOF" {
			t.Errorf("message %d is %+v; want %q", i, m, want[i])
		}
	}
	refused := errors.New("refused")
	rep, err = Prove(change.Step{Args: map[string]string{"accounts": EncodeList(accounts)}},
		func(account, _ string, say func(string)) error {
			say(account)
			if account == "reader" {
				return refused
			}
			return nil
		})
	if !errors.Is(err, refused) || len(rep.Messages) != len(accounts) {
		t.Errorf("one account that fails: %v, %+v", err, rep)
	}
}

func TestPack(t *testing.T) {
	for _, statements := range [][]string{{"GRANT \"a;\nb\"", `'\'`, ""}, {}} {
		if got := DecodeList(EncodeList(statements)); fmt.Sprint(got) != fmt.Sprint(statements) {
			t.Errorf("packed and unpacked: %q", got)
		}
	}
	if DecodeList("") != nil {
		t.Error("nothing unpacks to something")
	}
}
