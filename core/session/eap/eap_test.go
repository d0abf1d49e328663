package eap

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"testing"
)

// talk lets both ends of MS-CHAPv2 speak; change may change what the gateway says.
func talk(c *Conversation, s *Server, change func([]byte) []byte) (theirs []byte, err error) {
	packet := s.Begin()
	for {
		out, done, err := c.Handle(change(packet))
		if err != nil || done {
			return theirs, err
		}
		packet, theirs, _ = s.Handle(out)
	}
}

// TestMSCHAP signs in well, with another password, with a gateway that does not know it, and with
// one that wants another method.
func TestMSCHAP(t *testing.T) {
	random := rand.NewChaCha8([32]byte{3})
	ends := func(login, password string) (*Conversation, *Server) {
		return &Conversation{Name: login, Method: &MSCHAP{
				Login: login, Password: password, Random: random,
			}}, &Server{Random: random, Lookup: func(login string) (string, bool) {
				return "kelp 1", login == "ada"
			}}
	}
	same := func(b []byte) []byte { return b }
	c, s := ends("ada", "kelp 1")
	theirs, err := talk(c, s, same)
	if err != nil || len(theirs) != 64 || !bytes.Equal(theirs, c.Method.MSK()) {
		t.Errorf("well: %x, %x, %v", theirs, c.Method.MSK(), err)
	}
	var rejected *RejectedError
	for _, who := range [][2]string{{"ada", "kelp 2"}, {"bosse", "kelp 1"}} {
		c, s := ends(who[0], who[1])
		if _, err := talk(c, s, same); !errors.As(err, &rejected) || c.Method.MSK() != nil {
			t.Errorf("%v: %v", who, err)
		}
	}
	c, s = ends("ada", "kelp 1")
	if _, err := talk(c, s, func(b []byte) []byte {
		return bytes.ReplaceAll(b, []byte("S="), []byte("S=0"))
	}); !errors.Is(err, ErrUnproven) {
		t.Errorf("a gateway that does not know the password: %v", err)
	}
	c, _ = ends("ada", "kelp 1")
	if _, _, err := c.Handle([]byte{success, 1, 0, 4}); !errors.Is(err, ErrUnproven) {
		t.Errorf("a success out of nothing: %v", err)
	}
	c, _ = ends("ada", "kelp 1")
	out, _, err := c.Handle([]byte{request, 1, 0, 6, TypeTLS, start})
	if err != nil || !bytes.Equal(out, []byte{response, 1, 0, 6, nak, TypeMSCHAP}) {
		t.Errorf("another method: %x, %v", out, err)
	}
	var other *OtherMethodError
	if _, _, err := c.Handle([]byte{failure, 1, 0, 4}); !errors.As(err, &other) ||
		other.Wanted != TypeTLS {
		t.Errorf("refused for its method: %v", err)
	}
	c, _ = ends("ada", "kelp 1")
	for n := 0; ; n++ {
		if _, _, err := c.Handle([]byte{request, 1, 0, 5, identity}); err != nil {
			break
		} else if n > mostRounds {
			t.Fatal("it goes on for ever")
		}
	}
}

// FuzzHandle takes whatever a gateway says.
func FuzzHandle(f *testing.F) {
	f.Add([]byte{request, 1, 0, 5, identity}, []byte{success, 1, 0, 4})
	f.Add([]byte{request, 1, 0, 31, TypeMSCHAP, challenge, 1, 0, 26, 16}, []byte{3, 1, 0, 4})
	f.Add([]byte{request, 1, 0, 6, TypeTLS, start}, []byte{request, 2, 0, 7, TypeTLS, 0x40, 1})
	f.Fuzz(func(_ *testing.T, first, second []byte) {
		c := Conversation{Name: "ada", Method: &MSCHAP{
			Login: "ada", Password: "kelp", Random: rand.NewChaCha8([32]byte{3}),
		}}
		_, _, _ = c.Handle(first)
		_, _, _ = c.Handle(second)
	})
}
