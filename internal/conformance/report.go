package conformance

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
)

// WriteResult writes one result for people.
func WriteResult(w io.Writer, r Result) {
	fmt.Fprintf(w, "%-8s %-20s %s\n", r.Verdict, r.Name, r.Rule)
	switch r.Verdict {
	case Failed:
		fmt.Fprintf(w, "         %s\n         the contract: api/adapter.yaml, line %d, %s\n", r.Detail, r.Line, r.Call)
		if r.Answered != "" {
			fmt.Fprintf(w, "         answered: %s\n", r.Answered)
		}
	case Skipped:
		fmt.Fprintf(w, "         %s\n", r.Detail)
	}
}

type suite struct {
	XMLName  xml.Name   `xml:"testsuite"`
	Name     string     `xml:"name,attr"`
	Tests    int        `xml:"tests,attr"`
	Failures int        `xml:"failures,attr"`
	Skipped  int        `xml:"skipped,attr"`
	Cases    []testcase `xml:"testcase"`
}

type testcase struct {
	Class   string  `xml:"classname,attr"`
	Name    string  `xml:"name,attr"`
	Seconds string  `xml:"time,attr"`
	Failure *remark `xml:"failure,omitempty"`
	Skipped *remark `xml:"skipped,omitempty"`
}

type remark struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// WriteJUnit writes results in the XML that continuous integration reads.
func WriteJUnit(w io.Writer, adapter string, results []Result) error {
	s := suite{Name: "the adapter at " + adapter, Tests: len(results)}
	for _, r := range results {
		c := testcase{Class: r.Call, Name: r.Name + ": " + r.Rule, Seconds: fmt.Sprintf("%.3f", r.Took.Seconds())}
		switch r.Verdict {
		case Failed:
			s.Failures++
			where := fmt.Sprintf("api/adapter.yaml, line %d, %s", r.Line, r.Call)
			c.Failure = &remark{r.Detail, strings.Join([]string{where, "answered: " + r.Answered}, "\n")}
		case Skipped:
			s.Skipped++
			c.Skipped = &remark{Message: r.Detail}
		}
		s.Cases = append(s.Cases, c)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	return e.Encode(s)
}
