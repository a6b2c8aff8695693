package desk

import (
	"testing"

	"wideknot/internal/store"
)

func TestMain(m *testing.M) { store.TestMain(m) }
