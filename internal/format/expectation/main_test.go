package expectation

import (
	"testing"

	"tarnwold/internal/proptest"
)

func TestMain(m *testing.M) { proptest.Main(m, 2000, 2000) }
