package planning

import (
	"fmt"
	"testing"
)

func TestShorten(t *testing.T) {
	var list []string
	for i := range 13 {
		list = append(list, fmt.Sprint(i))
	}
	if got := Shorten(list); got != "0, 1, 2, 3, 4, 5, 6, 7, 8, 9 and 3 more" {
		t.Errorf("Shorten = %s", got)
	}
	if got := Shorten(list[:2]); got != "0, 1" {
		t.Errorf("Shorten = %s", got)
	}
}
