package rollouts

import (
	"testing"

	"wideknot/internal/server/store"
)

func TestMain(m *testing.M) { store.TestMain(m) }
