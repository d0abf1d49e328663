package e2e

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// TestFourEyes holds that what takes two is done by nobody alone, and only as it was approved.
func TestFourEyes(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx, run := t.Context(), f.commands()
	run(1, "a second owner", "organisation", "change", "--four-eyes")
	words := secret.New("kelp-72-Driftwood-lantern-oar")
	operator := func(name, role string) *client.Client {
		t.Helper()
		made, err := f.client.AddOperator(ctx, name, role, nil)
		if err != nil {
			t.Fatal(err)
		}
		c := client.New(f.url, "")
		c.Prove = func(bool) (secret.Text, error) { return words, nil }
		if _, err := c.SignIn(ctx, name, secret.New(made.Password)); err != nil {
			t.Fatal(err)
		}
		if err := c.ChangePassword(ctx, secret.New(made.Password), words); err != nil {
			t.Fatal(err)
		}
		return c
	}
	pilot, mate := operator("pilot", "owner"), operator("mate", "issuer")
	stoker, err := f.client.AddOperator(ctx, "stoker", "issuer", nil)
	if err != nil {
		t.Fatal(err)
	}
	deckhand, err := f.client.AddOperator(ctx, "deckhand", "issuer",
		&api.Confinement{Groups: []string{"crew"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.client.ChangeOperator(ctx, stoker.Operator.ID, "issuer", true, nil); err != nil {
		t.Fatal(err)
	}
	run(0, "", "organisation", "change", "--four-eyes")
	id := regexp.MustCompile(`ap-[a-z0-9]{16}`)
	// asked holds that something waits for somebody else, and finds for what.
	asked := func(err error) string {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), "takes two operators") {
			t.Fatalf("alone it is answered with %v", err)
		}
		return id.FindString(err.Error())
	}
	decide := func(by *client.Client, id string, granted bool, want string) {
		t.Helper()
		_, err := by.Decide(ctx, id, granted)
		said := fmt.Sprint(err)
		if p := (*api.Problem)(nil); errors.As(err, &p) {
			said = fmt.Sprintf("%+v", *p)
		}
		if want == "" && err != nil || !strings.Contains(said, want) {
			t.Errorf("deciding %s is answered with %s, expected %q", id, said, want)
		}
	}
	authorities, err := f.client.Authorities.List(ctx, query("Skerry Line Authority"))
	if err != nil {
		t.Fatal(err)
	}
	passphrase := secret.New("anchor velvet pepper rudder copper lantern")
	profile := f.profile("Purser laptop 1", "Norrvik")
	until := time.Now().AddDate(0, 1, 0)
	for name, act := range map[string]func(c *client.Client) error{
		"export": func(c *client.Client) error {
			_, err := c.ExportAuthority(ctx, authorities.Items[0].ID, passphrase, passphrase)
			return err
		},
		"severity": func(c *client.Client) error {
			_, err := c.SetSeverity(ctx, "pptp-outdated", vpn.Note)
			return err
		},
		// Nobody makes the second operator alone: neither a new one, nor out of one who may decide less,
		// is disabled or has forgotten the password, nor by an identity provider of their own.
		"reset": func(c *client.Client) error {
			_, err := c.ResetOperator(ctx, stoker.Operator.ID)
			return err
		},
		"promote": func(c *client.Client) error {
			_, err := c.ChangeOperator(ctx, stoker.Operator.ID, "owner", false, nil)
			return errors.Join(err, disable(f, stoker.Operator.ID, err))
		},
		"enable": func(c *client.Client) error {
			_, err := c.ChangeOperator(ctx, stoker.Operator.ID, "issuer", false, nil)
			return errors.Join(err, disable(f, stoker.Operator.ID, err))
		},
		"add": func(c *client.Client) error {
			made, err := c.AddOperator(ctx, "cook", "issuer", nil)
			if err == nil {
				err = f.client.RemoveOperator(ctx, made.Operator.ID)
			}
			return err
		},
		"less confined": func(c *client.Client) error {
			_, err := c.ChangeOperator(ctx, deckhand.Operator.ID, "issuer", false,
				&api.Confinement{Groups: []string{"crew", "office"}})
			if err == nil { // more confined is nobody else's affair
				_, err = f.client.ChangeOperator(ctx, deckhand.Operator.ID, "issuer", false,
					&api.Confinement{Groups: []string{"crew"}})
			}
			return err
		},
		"provider": func(c *client.Client) error {
			s, err := c.SingleSignOn(ctx)
			if err != nil {
				return err
			}
			s.Issuer, s.ClientID = "https://id.skerryline.example", "wardicon"
			s.Roles = []vpn.GroupRole{{Group: "crew", Role: "owner"}}
			if s, err = c.SetSingleSignOn(ctx, s, true); err != nil {
				return err
			}
			s.Issuer = ""
			_, err = f.client.SetSingleSignOn(ctx, s, true)
			return err
		},
	} {
		one := asked(act(f.client))
		if again := asked(act(f.client)); again != one {
			t.Errorf("%s: asked again it is another one", name)
		}
		decide(f.client, one, true, "your own name")
		decide(mate, one, true, "owner")
		decide(pilot, one, false, "")
		decide(pilot, one, true, "a decision of pilot")
		two := asked(act(f.client))
		decide(pilot, two, true, "")
		asked(act(pilot)) // who approved it has not asked for it
		if err := act(f.client); err != nil {
			t.Errorf("%s: approved, it is answered with %v", name, err)
		}
		if three := asked(act(f.client)); three == two {
			t.Errorf("%s: it can be done twice", name)
		}
	}
	if _, err := f.client.AddOperator(ctx, "guest", "auditor", nil); err != nil {
		t.Errorf("an auditor, who decides nothing, is not added: %v", err)
	}
	_, err = f.client.Archive(ctx, "", "pursers")
	asked(err)
	// Another value than the one that was approved takes another approval.
	_, err = f.client.SetSeverity(ctx, "pptp-outdated", vpn.Warning)
	decide(pilot, asked(err), true, "")
	_, err = f.client.SetSeverity(ctx, "pptp-outdated", "off")
	asked(err)
	// An issuer lets an error pass; another issuer or an owner decides.
	_, err = mate.Override(ctx, profile, "pptp-outdated", "the gateway moves", until)
	decide(pilot, asked(err), true, "")
	run(0, "granted by pilot", "operator", "approval", "list")
	run(0, "refused by pilot", "operator", "approval", "list")
	// Nobody alone does away with it.
	run(1, "takes two operators", "organisation", "change", "--four-eyes=false")
	list, err := f.client.Approvals(ctx)
	if err != nil {
		t.Fatal(err)
	}
	decide(pilot, list.Items[0].ID, true, "")
	run(0, "", "organisation", "change", "--four-eyes=false")
	if _, err := f.client.SetSeverity(ctx, "pptp-outdated", vpn.Error); err != nil {
		t.Errorf("afterwards one is not enough: %v", err)
	}
}

// disable takes back that an operator may sign in, if that was done.
func disable(f *fleet, id string, done error) error {
	if done != nil {
		return nil
	}
	_, err := f.client.ChangeOperator(f.t.Context(), id, "issuer", true, nil)
	return err
}
