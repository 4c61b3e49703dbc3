package main

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestSum: what failed is told with all it said, what was skipped with its reason,
// and a package that is cut off counts as failed.
func TestSum(t *testing.T) {
	for _, c := range []struct {
		name, in, out string
		failed        int
	}{
		{"all pass", `{"Action":"start","Package":"tarnwold/core/right"}
{"Action":"output","Package":"tarnwold/core/right","Test":"TestA","Output":"noise\n"}
{"Action":"pass","Package":"tarnwold/core/right","Test":"TestA"}
{"Action":"pass","Package":"tarnwold/core/right","Elapsed":1.25}`, "ok          1.2 s  core/right\n", 0},
		{"one fails", `{"Action":"start","Package":"tarnwold/a"}
{"Action":"output","Package":"tarnwold/a","Test":"TestA","Output":"what was wrong\n"}
{"Action":"fail","Package":"tarnwold/a","Test":"TestA"}
{"Action":"fail","Package":"tarnwold/a","Elapsed":2}`, "what was wrong\nFAILED      2.0 s  a\n", 1},
		{"skipped", `{"Action":"start","Package":"tarnwold/a"}
{"Action":"output","Package":"tarnwold/a","Test":"TestA","Output":"    a_test.go:7: *** LEFT to make test-long ***\n"}
{"Action":"skip","Package":"tarnwold/a","Test":"TestA"}
{"Action":"output","Package":"tarnwold/a","Test":"TestC","Output":"    a_test.go:8: *** RUN BY TestB ***\n"}
{"Action":"skip","Package":"tarnwold/a","Test":"TestC"}
{"Action":"output","Package":"tarnwold/a","Test":"TestB","Output":"    a_test.go:9: not as root\n"}
{"Action":"skip","Package":"tarnwold/a","Test":"TestB"}
{"Action":"pass","Package":"tarnwold/a","Elapsed":0}`, "ok          0.0 s  a\n*** LEFT to make test-long ***\n    a TestA\n*** SKIPPED: not as root ***\n    a TestB\n", 0},
		{"killed", `{"Action":"start","Package":"tarnwold/a"}
{"Action":"output","Package":"tarnwold/a","Test":"TestA","Output":"begun\n"}`, "FAILED  a: it ended without a word\n", 1},
		{"a panic", `{"Action":"start","Package":"tarnwold/a"}
{"Action":"output","Package":"tarnwold/a","Test":"TestA","Output":"panic: at the disco\n"}
{"Action":"fail","Package":"tarnwold/a","Elapsed":1}`, "TestA was under way:\npanic: at the disco\nFAILED      1.0 s  a\n", 1},
		{"not built", `{"Action":"build-output","ImportPath":"tarnwold/a","Output":"a.go:1: no\n"}
{"Action":"build-fail","ImportPath":"tarnwold/a"}`, "a.go:1: no\n", 1},
		{"no JSON", "go: cannot find main module\n", "go: cannot find main module\nFAILED  no test was run\n", 1},
	} {
		var out bytes.Buffer
		require.Equal(t, c.failed, sum(strings.NewReader(c.in), &out), c.name)
		require.Equal(t, c.out, out.String(), c.name)
	}
}
