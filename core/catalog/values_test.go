package catalog

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
)

func TestValues(t *testing.T) {
	text := `{"owner":"o","limit":5,"open":true,"allow":["a","b"],"files":[{"name":"x","size":1}],"none":[]}`
	var v Values
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		t.Fatal(err)
	}
	want := Values{"owner": "o", "limit": int64(5), "open": true, "allow": []string{"a", "b"},
		"files": []Values{{"name": "x", "size": int64(1)}}, "none": []string{}}
	if !reflect.DeepEqual(v, want) {
		t.Errorf("read %#v", v)
	}
	if n, ok := v.Int("limit"); n != 5 || !ok || v.Text("owner") != "o" || !v.Bool("open") ||
		len(v.List("allow")) != 2 || len(v.Rows("files")) != 1 || v.Has("x") {
		t.Errorf("%v tells something else", v)
	}
	again, err := json.Marshal(v)
	var back Values
	if err != nil || json.Unmarshal(again, &back) != nil || !reflect.DeepEqual(back, v) {
		t.Errorf("%s comes back as %#v", again, back)
	}
	for _, bad := range []string{`{"a":1.5}`, `{"a":{"b":1}}`, `{"a":null}`, `{"a":["x",{"b":"y"}]}`, `{"a":[1]}`,
		`{"a":99999999999999999999}`, `[]`} {
		if err := json.Unmarshal([]byte(bad), &v); err == nil {
			t.Errorf("%s is read as %#v", bad, v)
		}
	}
	if got := v.With("b", "").With("c", nil); len(got) != len(v) {
		t.Errorf("nothing adds something: %v", got)
	}
}

func TestWriteValue(t *testing.T) {
	for _, tt := range []struct {
		value any
		want  string
	}{{nil, ""}, {true, "yes"}, {false, "no"}, {int64(7), "7"}, {"x", "x"}, {[]string{"a", "b"}, "a, b"},
		{[]Values{{"name": "x", "size": int64(1)}, {"name": "y"}}, "name x, size 1; name y"}} {
		if got := WriteValue(tt.value); got != tt.want {
			t.Errorf("WriteValue(%v) = %q; want %q", tt.value, got, tt.want)
		}
	}
}

func FuzzValues(f *testing.F) {
	f.Add(`{"a":[{"b":["c"]}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		var v Values
		if json.Unmarshal([]byte(text), &v) != nil || strings.Contains(text, `\u`) {
			return
		}
		again, err := json.Marshal(v)
		var back Values
		if err != nil || json.Unmarshal(again, &back) != nil || !reflect.DeepEqual(back, v) {
			t.Errorf("%q reads as %#v, which reads as %#v", text, v, back)
		}
	})
}
