package e2e

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/demo"
)

// TestMove moves a service to another folder as the runbook says: sessions, tokens and links go on, the
// records and the audit log are the same.
func TestMove(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	old, moved := filepath.Join(t.TempDir(), "old"), filepath.Join(t.TempDir(), "moved")
	copySample(t, old)
	// saved is what all records are, as a service says.
	saved := func(c *client.Client) string {
		t.Helper()
		inventory, err := c.Inventory(ctx)
		text, err2 := json.Marshal(inventory)
		if err := errors.Join(err, err2); err != nil || len(text) < 10_000 {
			t.Fatal(len(text), err)
		}
		return string(text)
	}
	p := serve(t, old)
	c := client.New(p.url, "")
	c.Prove = func(bool) (secret.Text, error) { return secret.New(demo.OwnerPassword), nil }
	session, err := c.SignIn(ctx, demo.OwnerName, secret.New(demo.OwnerPassword))
	if err != nil {
		t.Fatal(err)
	}
	profiles, err := c.Profiles.List(ctx, client.Query{Search: "Planner Mac 1", Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Build(ctx, profiles.Items[0].ID, false); err != nil {
		t.Fatal(err)
	}
	made, err := c.MakeHandover(ctx, profiles.Items[0].ID, api.HandoverRequest{})
	if err != nil {
		t.Fatal(err)
	}
	token, err := c.AddToken(ctx, "watch", "auditor", 1)
	if err != nil {
		t.Fatal(err)
	}
	before := saved(c)
	p.stop(os.Interrupt)

	copyData(t, old, moved)
	if out, err := command("service", "inspect", "--data", moved).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	p = serve(t, moved, "--security-contact", "mailto:security@skerryline.example")
	for name, bearer := range map[string]string{"session": session.Token, "token": token.Bearer} {
		if after := saved(client.New(p.url, bearer)); after != before {
			t.Errorf("by the %s the records are others", name)
		}
	}
	for path, want := range map[string]string{
		made.Path: "passcode", "/.well-known/security.txt": "Contact: mailto:security@skerryline.example\nExpires: ",
	} {
		res, err := http.Get(p.url + path)
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(res.Body)
		if err := errors.Join(err, res.Body.Close()); err != nil {
			t.Fatal(err)
		}
		if res.StatusCode != http.StatusOK || !strings.Contains(strings.ToLower(string(text)), strings.ToLower(want)) {
			t.Errorf("%s is answered with %d: %.300s", path, res.StatusCode, text)
		}
	}
	proof, err := client.New(p.url, session.Token).VerifyAudit(ctx, "")
	if err != nil || !proof.Sound {
		t.Errorf("the audit log is %+v (%v)", proof, err)
	}
	p.stop(os.Interrupt)
	out, _ := command("serve", "--data", moved, "--security-contact", "somebody", "--check").CombinedOutput()
	if !strings.Contains(string(out), `found "somebody", expected a mailto, https or tel URI`) {
		t.Errorf("a contact that is none: %s", out)
	}
}
