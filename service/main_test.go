package service_test

import (
	"os"
	"testing"

	"wardicon/service"
)

func TestMain(m *testing.M) {
	service.HashQuickly()
	os.Exit(m.Run())
}
