package engine

import (
	"context"

	"example.com/genarch/core/catalog"
)

// ReadChoices reads the lists of these keys, each by its own way; one that there is no way for is left out.
func ReadChoices(ctx context.Context, keys []string,
	ways map[string]func(context.Context) ([]catalog.Choice, error)) (catalog.Choices, error) {
	out := catalog.Choices{}
	for _, key := range keys {
		read := ways[key]
		if read == nil {
			continue
		}
		list, err := read(ctx)
		if err != nil {
			return nil, err
		}
		out[key] = list
	}
	return out, nil
}
