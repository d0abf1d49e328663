package bench

import (
	"context"
	"errors"
	"fmt"
	"net"
	"runtime"
	"strconv"
	"sync"
	"time"

	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/rehearse"
	"wardicon/simulate"
)

// manyRehearsals are made at once.
const manyRehearsals = 200

// rehearsals signs in to a simulated gateway. The baseline of one is a bare exchange of two
// datagrams with a socket on this machine for each step; that of many at once is as many one after
// the other.
func rehearsals() error {
	const password = "tern-11-Oakum-reef-fathom"
	stand := &simulate.Gateway{
		Name:     "norrvik.skerryline.example",
		Accounts: map[string]string{"a_fjell": password}, KeyL2TP: password,
	}
	if err := stand.Start(); err != nil {
		return err
	}
	defer func() { _ = stand.Close() }()
	lead := &vpn.ProbeAt{Address: stand.Bind.String(), Ports: map[string]int{}}
	for from, to := range stand.Ports() {
		lead.Ports[strconv.Itoa(from)] = to
	}
	base, err := datagrams(len(rehearsal.Steps))
	if err != nil {
		return err
	}
	var fault error
	for _, c := range []vpn.Connection{
		{Protocol: vpn.IKEv2, IKEv2: &vpn.IKEv2Setting{
			Auth: vpn.IKEv2MSCHAPv2, RemoteID: stand.Name, IKE: []string{"aes256-sha256-ecp256"},
			ESP: []string{"aes256gcm16"},
		}},
		{Protocol: vpn.TLS, TLS: &vpn.TLSSetting{
			Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}}, Auth: vpn.TLSPassword,
			TLSOptions: vpn.TLSOptions{ServerName: stand.Name},
		}},
		{Protocol: vpn.SSTP, SSTP: &vpn.SSTPSetting{Port: 443}},
		{Protocol: vpn.L2TP, L2TP: &vpn.L2TPSetting{
			Auth: vpn.MachinePSK, PSK: secret.New(password),
			IKE: []string{"aes256-sha256-ecp256"}, ESP: []string{"aes256-sha256"},
		}},
	} {
		c.Name, c.Server, c.Authority = "Norrvik", stand.Name, stand.Authority
		c.Login, c.Password = "a_fjell", secret.New(password)
		var mu sync.Mutex
		one := func() {
			r := (&rehearse.Rehearser{}).Run(context.Background(), rehearse.Request{
				Connection: c, Lead: lead, Hosts: []string{"10.20.0.1"},
			})
			if !r.Passed {
				mu.Lock()
				fault = errors.Join(fault, fmt.Errorf("%s: %+v", c.Protocol, r.Steps))
				mu.Unlock()
			}
		}
		took := measure(one)
		row("rehearse: "+string(c.Protocol), took, base)
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		begin := time.Now()
		var all sync.WaitGroup
		for range manyRehearsals {
			all.Go(one)
		}
		time.Sleep(took)
		runtime.ReadMemStats(&after)
		all.Wait()
		row(fmt.Sprintf("rehearse: %d by %s at once (%d MB)", manyRehearsals, c.Protocol,
			(after.HeapInuse-min(before.HeapInuse, after.HeapInuse))>>20),
			time.Since(begin), manyRehearsals*took)
	}
	return fault
}

// datagrams is how long so many questions and answers take on this machine.
func datagrams(n int) (time.Duration, error) {
	server, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer func() { _ = server.Close() }()
	go func() {
		b := make([]byte, 1500)
		for {
			k, from, err := server.ReadFrom(b)
			if err != nil {
				return
			}
			_, _ = server.WriteTo(b[:k], from)
		}
	}()
	conn, err := net.Dial("udp", server.LocalAddr().String())
	if err != nil {
		return 0, err
	}
	defer func() { _ = conn.Close() }()
	b := make([]byte, 200)
	return measure(func() {
		for range n {
			_, _ = conn.Write(b)
			_, _ = conn.Read(b)
		}
	}), nil
}
