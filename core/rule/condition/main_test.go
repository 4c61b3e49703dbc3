package condition

import (
	"testing"

	"tarnwold/internal/proptest"
)

func TestMain(m *testing.M) { proptest.Main(m, 400, 400) }
