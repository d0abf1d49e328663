package service_test

import (
	"os"
	"runtime/debug"
	"testing"

	"wardicon/service"
)

func TestMain(m *testing.M) {
	service.HashQuickly()
	debug.SetGCPercent(400) // of many short lives of a service, most of the work would be that
	os.Exit(m.Run())
}
