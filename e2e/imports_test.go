package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wardicon/api"
	"wardicon/client"
)

const crewTable = "Name;E-Mail;Abteilung;Ort;Land;Benutzername;Kennwort;Gerät;Betriebssystem\n" +
	"Ada Fjord;ada.fjord@skerryline.example;crew,deck;Norrvik;no;a_fjord;kelp-4497-Harbor-mizzen;" +
	"Ada laptop;Windows 11 Pro\n" +
	"Ada Fjord;ada.fjord@skerryline.example;;;;a_fjord;;Ada phone;iOS 17.4\n" +
	"Bo Strand;bo.strand@skerryline.example;crew;Brattvik;Norway;b_strand;;Bo laptop;Windows 11\n" +
	"Cleo Roux;cleo.roux@skerryline.example;=office;Tallholm;FR;c_roux;;;\n"

// TestImportTable imports a spreadsheet by the console and by the command line, and undoes it.
func TestImportTable(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	b := open(t, f.url)
	file := filepath.Join(t.TempDir(), "crew.csv")
	if err := os.WriteFile(file, []byte(crewTable), 0o600); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	b.goTo("/people", "People")
	b.press("Import a table")
	b.titled("Import a table")
	b.see("No imports yet")
	b.accessible("importing a table")
	b.shot("imports")
	b.do(chromedp.SetUploadFiles("#table", []string{file}))
	b.see("CSV in UTF-8, 4 rows of people")
	b.see(`found "Norway", expected two capital letters`)
	b.see("3 to add")
	b.accessible("a preview of a table")
	b.fits()
	b.shot("import-preview")
	b.do(chromedp.EmulateViewport(360, 740))
	b.fits()
	b.shot("phone-import-preview")
	b.do(chromedp.EmulateViewport(1280, 800))
	b.fill("Abteilung", "")
	before := eval[string](b, "location.search")
	b.press("Preview again")
	b.until(fmt.Sprintf("location.search !== %q", before))
	b.fill("Outcome", "")
	b.see("person Cleo Roux")
	b.until(`!document.body.innerText.includes("crew, deck")`)
	b.press("Import 3 rows")
	b.see("3 of 3 rows: 3 added")
	b.see("Undo this import")
	b.accessible("an import")
	b.shot("import-made")
	people, err := f.client.People.List(t.Context(), client.Query{Search: "Ada Fjord"})
	if err != nil || people.Total != 1 || people.Items[0].Devices != 2 || people.Items[0].Accounts != 1 {
		t.Errorf("imported: %+v (%v)", people, err)
	}

	run := f.commands()
	// What a spreadsheet would take for a formula is exported as a text.
	if _, err := f.client.People.Add(t.Context(), client.Patch{"name": "=1+1, Fjord"}); err != nil {
		t.Fatal(err)
	}
	b.goTo("/people", "People")
	b.see("=1+1, Fjord")
	eval[bool](b, `(URL.createObjectURL = (blob) => (blob.text().then((text) => (window.saved = `+
		`text)), 'blob:none'), true)`)
	b.press("Export CSV")
	b.until("window.saved")
	saved := eval[string](b, "window.saved")
	written := run(0, "place.city", "person", "list", "--all", "-o", "csv")
	for where, text := range map[string]string{"console": saved, "command": written} {
		for _, want := range []string{"id,version,", `,"'=1+1, Fjord",`, ",ada.fjord@skerryline.example,"} {
			if !strings.Contains(text, want) {
				t.Errorf("%s: %s is not in\n%s", where, want, text)
			}
		}
	}
	run(2, "expected table, json or yaml", "overview", "-o", "csv")
	// The mapping of these columns is remembered.
	if out := run(1, "not imported", "import", file, "--dry-run"); strings.Contains(out, "→ groups") {
		t.Error(out)
	}
	out := run(1, `Betriebssystem → platform`, "import", file, "--dry-run", "--map", "Abteilung=groups",
		"--map", "Name=name", "--map", "E-Mail=mail", "--map", "Betriebssystem=platform")
	for _, want := range []string{
		"Abteilung → groups", "Land → not imported",
		"line 4, column", "found the platform of no device",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("%s is not in\n%s", want, out)
		}
	}
	list, err := f.client.RecordImports(t.Context(),
		client.Query{Filter: map[string]string{"state": "imported"}})
	if err != nil || list.Total != 1 {
		t.Fatalf("%+v (%v)", list, err)
	}
	run(0, "3 undone", "import", "undo", list.Items[0].ID, "--yes")
	run(0, "person Cleo Roux", "import", "rows", list.Items[0].ID, "--outcome", "undone")
	run(2, "COLUMN=FIELD", "import", file, "--map", "Name")
	run(1, "found the column", "import", file, "--map", "Nom=name")
	if people, err = f.client.People.List(t.Context(), client.Query{Search: "Ada Fjord"}); err != nil ||
		people.Total != 0 {
		t.Errorf("undone: %+v (%v)", people, err)
	}
	b.load("/imports?id="+list.Items[0].ID, "Import a table")
	b.see("3 undone")
	if state, err := f.client.RecordImport(t.Context(), list.Items[0].ID); err != nil ||
		state.State != api.ImportUndone {
		t.Errorf("%+v (%v)", state, err)
	}
}
