package bench
import "testing"
func TestGrowth(t *testing.T) { if err := growth(); err != nil { t.Fatal(err) } }
