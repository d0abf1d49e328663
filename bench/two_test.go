package bench
import ("testing";"context";"time";"fmt";"log/slog";"os";"wardicon/service";"wardicon/store";"runtime/pprof")
func TestRecheck(t *testing.T) {
	ctx := context.Background()
	s, dir, err := scratch(ctx); if err != nil { t.Fatal(err) }
	defer os.RemoveAll(dir)
	if err := loadFleet(ctx, s, fleetSize()); err != nil { t.Fatal(err) }
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	for i := range 3 {
		if i == 2 { f,_ := os.Create("/tmp/cpu2.prof"); pprof.StartCPUProfile(f); defer pprof.StopCPUProfile() }
		b := time.Now()
		n, err := svc.CheckAll(ctx); if err != nil { t.Fatal(err) }
		fmt.Println("pass", i, n, time.Since(b)/time.Duration(max(n,1)))
		s.Write(ctx, func(tx *store.Tx) error { return tx.TouchProfiles(ctx, "1") })
	}
}
