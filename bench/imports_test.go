package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"time"

	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// importRows is how many people, each with an account and a device, a table brings.
const importRows = 10_000

// imports previews, imports and undoes a table of people. The baseline only inserts the same
// records, in transactions of a thousand.
func imports() error {
	ctx := context.Background()
	bare, err := bareInserts(ctx)
	if err != nil {
		return err
	}
	s, dir, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close(), os.RemoveAll(dir)) }()
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	table := peopleTable()
	begin := time.Now()
	shown, err := svc.ShowImport(ctx, "people.csv", table, service.Table{})
	if err != nil {
		return err
	}
	row(fmt.Sprintf("import: preview of %d rows", importRows), time.Since(begin), bare)
	begin = time.Now()
	if _, err := svc.MakeImport(ctx, shown.ID); err != nil {
		return err
	}
	if err := svc.WorkAll(ctx); err != nil {
		return err
	}
	row(fmt.Sprintf("import: job of %d rows", importRows), time.Since(begin), bare)
	begin = time.Now()
	if _, err := svc.UndoImport(ctx, shown.ID); err != nil {
		return err
	}
	if err := svc.WorkAll(ctx); err != nil {
		return err
	}
	row("import: undoing it", time.Since(begin), bare)
	done, err := svc.RecordImport(ctx, shown.ID)
	if err == nil && done.Rows["undone"] != importRows {
		err = fmt.Errorf("import: %v", done.Rows)
	}
	return err
}

// peopleTable is a table of people who are in no fleet.
func peopleTable() []byte {
	var b bytes.Buffer
	b.WriteString("Name,Mail,Groups,Login,Password,Device,Platform\n")
	for i := range importRows {
		fmt.Fprintf(&b, "Newcomer %05d,n%05d@skerryline.example,%s,new%05d,dune-%05d-Gannet,"+
			"Laptop %06d,Windows 11\n", i, i, teams[i%len(teams)], i, i*7919%99991, i)
	}
	return b.Bytes()
}

func bareInserts(ctx context.Context) (took time.Duration, err error) {
	s, dir, err := scratch(ctx)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, s.Close(), os.RemoveAll(dir)) }()
	begin := time.Now()
	const step = 1000
	for from := 0; from < importRows && err == nil; from += step {
		err = s.Write(ctx, func(tx *store.Tx) error {
			for i := from; i < from+step; i++ {
				p := vpn.Person{
					Name:   fmt.Sprintf("Person %05d", i),
					Mail:   fmt.Sprintf("p%05d@skerryline.example", i),
					Groups: []string{teams[i%len(teams)]},
				}
				if err := store.People.Insert(ctx, tx, &p); err != nil {
					return err
				}
				password := secret.New(fmt.Sprintf("dune-%05d-Gannet", i*7919%99991))
				if err := store.Accounts.Insert(ctx, tx, &vpn.Account{
					PersonID: p.ID, Login: fmt.Sprintf("login%05d", i), Password: &password,
				}); err != nil {
					return err
				}
				if err := store.Devices.Insert(ctx, tx, &vpn.Device{
					Name:     fmt.Sprintf("Device %06d", i),
					PersonID: p.ID,
					Platform: vpn.Windows,
					Release:  "11",
				}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return time.Since(begin), err
}
