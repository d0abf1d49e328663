package simulate

import (
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"time"
)

// Tunnel is a simulator for a device that is connected: what goes through it comes to the service
// as from a gateway's egress. The service must trust loopback as a proxy.
type Tunnel struct {
	Address string // to be opened in a browser

	server *http.Server
}

// NewTunnel starts a simulator on loopback that leads to a service, and shows it an address as the
// caller's. Close ends it.
func NewTunnel(service, egress string) (*Tunnel, error) {
	target, err := url.Parse(service)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = r.In.Host
		r.Out.Header.Set("X-Forwarded-For", egress)
	}}
	t := &Tunnel{
		Address: "http://" + listener.Addr().String(),
		server:  &http.Server{Handler: proxy, ReadHeaderTimeout: 10 * time.Second},
	}
	go func() { _ = t.server.Serve(listener) }() // ends with Close
	return t, nil
}

// Close ends the simulator.
func (t *Tunnel) Close() error { return t.server.Close() }
