package route_test

import (
	"testing"

	"plumlatch/internal/service/servicetest"
)

func TestMain(m *testing.M) { servicetest.Main(m) }
