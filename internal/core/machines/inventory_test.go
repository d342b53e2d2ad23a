package machines

import (
	"errors"
	"testing"
)

func TestAListThatGoesRoundOrBackIsNoList(t *testing.T) {
	for name, c := range map[string]struct {
		pages [][]string
		want  error
	}{
		"in order":          {[][]string{{"i-1", "i-2"}, {"i-3"}, nil}, nil},
		"none":              {[][]string{nil}, nil},
		"the same again":    {[][]string{{"i-1", "i-2"}, {"i-1", "i-2"}}, errOrder},
		"goes back":         {[][]string{{"i-1", "i-3"}, {"i-2"}}, errOrder},
		"one twice":         {[][]string{{"i-1", "i-1"}}, errOrder},
		"out of order":      {[][]string{{"i-2", "i-1"}}, errOrder},
		"one without an id": {[][]string{{"", "i-1"}}, errOrder},
	} {
		var l Listed
		var err error
		for _, page := range c.pages {
			var after string
			if after, err = l.Take(page); err != nil {
				break
			}
			if len(page) > 0 && after != page[len(page)-1] {
				t.Errorf("%s: behind the page is %q, want %q", name, after, page[len(page)-1])
			}
		}
		if !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
}

func TestMostOfACloudIsNotGoneAtOnce(t *testing.T) {
	for _, c := range []struct {
		gone, recorded int
		want           bool
	}{
		{0, 0, false}, {1, 1, false}, {2, 2, false}, {3, 3, true}, {3, 6, false}, {4, 7, true}, {500, 1000, false},
		{501, 1000, true},
	} {
		if got := TooManyGone(c.gone, c.recorded); got != c.want {
			t.Errorf("%d of %d: %v, want %v", c.gone, c.recorded, got, c.want)
		}
	}
}
