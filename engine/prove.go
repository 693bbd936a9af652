package engine

import (
	"sync"

	"example.com/genarch/core/change"
)

// Prove tries the accounts of a step of kind [StepProve] side by side: try is
// called for each with its bundle, and says what it found. What they said comes
// back account by account; the first error of all is the outcome.
func Prove(step change.Step, try func(account, bundle string, say func(string)) error) (Report, error) {
	accounts, bundles := DecodeList(step.Args["accounts"]), DecodeList(step.Args["bundles"])
	said, errs := make([][]change.Message, len(accounts)), make([]error, len(accounts))
	var all sync.WaitGroup
	for i, account := range accounts {
		bundle := ""
		if i < len(bundles) {
			bundle = bundles[i]
		}
		all.Go(func() {
			errs[i] = try(account, bundle, func(text string) {
				said[i] = append(said[i], change.Message{Severity: "PROOF", Text: text, Account: account})
			})
		})
	}
	all.Wait()
	var rep Report
	for i := range accounts {
		rep.Messages = append(rep.Messages, said[i]...)
	}
	for _, err := range errs {
		if err != nil {
			return rep, err
		}
	}
	return rep, nil
}
