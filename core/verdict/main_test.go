package verdict

import (
	"testing"

	"tarnwold/internal/drawn"
)

func TestMain(m *testing.M) { drawn.Main(m, 400) }
