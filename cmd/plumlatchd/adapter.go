package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/conformance"
)

// errNotKept ends a check in which a rule was not kept; each was told of before.
var errNotKept = errors.New("the adapter does not keep the contract")

// checkAdapter goes through the contract against an adapter, and tells of each rule.
func checkAdapter(ctx context.Context, o settings) error {
	token, err := os.ReadFile(o.adapterToken)
	if err != nil {
		return fmt.Errorf("-token-file: %w", err)
	}
	var results []conformance.Result
	count := map[conformance.Verdict]int{}
	err = conformance.Check(ctx, conformance.Options{
		Adapter: cloud.Adapter{URL: o.checkAdapter, Token: strings.TrimSpace(string(token))},
		Launch:  o.checkImage, Size: o.checkSize, Within: 20 * time.Minute,
	}, func(r conformance.Result) {
		conformance.WriteResult(os.Stdout, r)
		results = append(results, r)
		count[r.Verdict]++
	})
	if err != nil {
		return fmt.Errorf("-check-adapter: %w", err)
	}
	fmt.Printf(
		"\n%d passed, %d failed, %d skipped.\n", count[conformance.Passed], count[conformance.Failed],
		count[conformance.Skipped],
	)
	if o.junit != "" {
		f, err := os.Create(o.junit)
		if err != nil {
			return fmt.Errorf("-junit: %w", err)
		}
		if err := errors.Join(conformance.WriteJUnit(f, o.checkAdapter, results), f.Close()); err != nil {
			return fmt.Errorf("-junit: %w", err)
		}
	}
	if count[conformance.Failed] > 0 {
		return errNotKept
	}
	return nil
}
