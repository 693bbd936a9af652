package api

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

// knownTime is how long a token that was found good is taken as good. What ends
// it through this service ends it at once, through another copy after this time.
const knownTime = time.Second

// maxKnown bounds the tokens that are remembered.
const maxKnown = 1000

// known remembers tokens that were found good a moment ago: a program makes
// several calls in a row, and the look-up would be a good part of each.
type known struct {
	// altered counts what was forgotten: access may have ended since.
	altered atomic.Uint64
	mu      sync.Mutex // guards tokens
	tokens  map[string]knownToken
}

type knownToken struct {
	token    record.Token
	operator policy.Operator
	until    time.Time
}

// find gives the token with this hash, remembered or from the records.
func (k *known) find(ctx context.Context, records Records, hash string) (record.Token, policy.Operator, error) {
	now := time.Now()
	k.mu.Lock()
	t, there := k.tokens[hash]
	k.mu.Unlock()
	if there && now.Before(t.until) {
		return t.token, t.operator, nil
	}
	token, operator, err := records.TokenByHash(ctx, hash)
	if err != nil {
		return token, operator, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.tokens == nil || len(k.tokens) >= maxKnown {
		k.tokens = map[string]knownToken{}
	}
	k.tokens[hash] = knownToken{token, operator, now.Add(knownTime)}
	return token, operator, nil
}

// forget drops what is remembered, after a token or an operator was altered.
func (k *known) forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	clear(k.tokens)
	k.altered.Add(1)
}
