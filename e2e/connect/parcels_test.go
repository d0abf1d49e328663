package connect

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// only is the one file of a parcel with an ending.
func only(t *testing.T, parcel, ending string) []byte {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(parcel, "*"+ending))
	if err != nil || len(list) != 1 {
		t.Fatalf("%s: %v %v", ending, list, err)
	}
	data, err := os.ReadFile(list[0])
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// plist reads an XML property list: dictionaries, arrays, texts, numbers, truth values, data.
func plist(d *xml.Decoder, start xml.StartElement) (any, error) {
	switch start.Name.Local {
	case "dict":
		m, key := map[string]any{}, ""
		for {
			token, err := d.Token()
			if err != nil {
				return nil, err
			}
			switch token := token.(type) {
			case xml.EndElement:
				return m, nil
			case xml.StartElement:
				if token.Name.Local == "key" {
					if err := d.DecodeElement(&key, &token); err != nil {
						return nil, err
					}
					continue
				}
				if _, twice := m[key]; twice {
					return nil, fmt.Errorf("the key %s stands twice", key)
				}
				if m[key], err = plist(d, token); err != nil {
					return nil, err
				}
			}
		}
	case "array":
		list := []any{}
		for {
			token, err := d.Token()
			if err != nil {
				return nil, err
			}
			switch token := token.(type) {
			case xml.EndElement:
				return list, nil
			case xml.StartElement:
				v, err := plist(d, token)
				if err != nil {
					return nil, err
				}
				list = append(list, v)
			}
		}
	case "true", "false":
		return start.Name.Local == "true", d.Skip()
	}
	var text string
	if err := d.DecodeElement(&text, &start); err != nil {
		return nil, err
	}
	switch start.Name.Local {
	case "string":
		return text, nil
	case "integer":
		return strconv.Atoi(strings.TrimSpace(text))
	case "data":
		return base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	}
	return nil, fmt.Errorf("the element %s", start.Name.Local)
}

// knowsApple is what an Apple system takes out of a configuration profile (Apple: Device
// Management, payloads com.apple.vpn.managed and com.apple.security.*).
func knowsApple(t *testing.T, data []byte) (s system) {
	t.Helper()
	d := xml.NewDecoder(bytes.NewReader(data))
	var root map[string]any
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if start, ok := token.(xml.StartElement); ok && start.Name.Local != "plist" {
			v, err := plist(d, start)
			if err != nil {
				t.Fatal(err)
			}
			root = v.(map[string]any)
		}
	}
	str := func(m map[string]any, key string) string { v, _ := m[key].(string); return v }
	certificates := map[string]*windowsCertificate{}
	for _, p := range root["PayloadContent"].([]any) {
		p := p.(map[string]any)
		switch kind := str(p, "PayloadType"); kind {
		case "com.apple.security.root", "com.apple.security.pkcs1", "com.apple.security.pem":
			c, err := x509.ParseCertificate(p["PayloadContent"].([]byte))
			if err != nil {
				t.Fatal(err)
			}
			if root := bytes.Equal(c.RawIssuer, c.RawSubject); root {
				s.cas = append(s.cas, c)
			} else {
				s.chain = append(s.chain, c)
			}
		case "com.apple.security.pkcs12":
			c, err := openP12(p["PayloadContent"].([]byte), str(p, "Password"), "")
			if err != nil {
				t.Fatal(err)
			}
			certificates[str(p, "PayloadUUID")] = c
		}
	}
	use := func(id, declared string) {
		c := certificates[id]
		if c == nil {
			t.Fatalf("there is no identity %q", id)
		}
		kind := "RSA"
		if key, ok := c.leaf.PublicKey.(*ecdsa.PublicKey); ok {
			kind = fmt.Sprintf("ECDSA%d", key.Params().BitSize)
		} else if _, ok := c.leaf.PublicKey.(*rsa.PublicKey); !ok {
			kind = "?"
		}
		if declared != kind && declared != "-" {
			t.Errorf("the declared type is %q, the key is %s", declared, kind)
		}
		s.leaf, s.chain, s.key = c.leaf, append(s.chain, c.chain...), c.key.(crypto.Signer)
	}
	for _, p := range root["PayloadContent"].([]any) {
		p := p.(map[string]any)
		if str(p, "PayloadType") != "com.apple.vpn.managed" {
			continue
		}
		switch str(p, "VPNType") {
		case "IKEv2":
			k := p["IKEv2"].(map[string]any)
			s.protocol, s.server, s.remoteID, s.localID = "ikev2", str(
				k,
				"RemoteAddress",
			), str(
				k,
				"RemoteIdentifier",
			), str(
				k,
				"LocalIdentifier",
			)
			s.login, s.password, s.psk, s.issuer = str(
				k,
				"AuthName",
			), str(
				k,
				"AuthPassword",
			), str(
				k,
				"SharedSecret",
			), str(
				k,
				"ServerCertificateIssuerCommonName",
			)
			extended := k["ExtendedAuthEnabled"] == 1 || k["ExtendedAuthEnabled"] == true
			switch method := str(k, "AuthenticationMethod"); {
			case method == "Certificate":
				s.auth = map[bool]string{true: "eap-tls", false: "certificate"}[extended]
				use(str(k, "PayloadCertificateUUID"), str(k, "CertificateType"))
			case method == "SharedSecret":
				s.auth = "psk"
			case method == "None" && extended:
				s.auth = "eap-mschapv2"
			default:
				t.Errorf("authentication by %q, extended %t", method, extended)
			}
			for key, to := range map[string]*string{
				"IKESecurityAssociationParameters":   &s.ike,
				"ChildSecurityAssociationParameters": &s.esp,
			} {
				if a, ok := k[key].(map[string]any); ok {
					group := ""
					if g, ok := a["DiffieHellmanGroup"].(int); ok &&
						(key[0] == 'I' || k["EnablePFS"] == 1 || k["EnablePFS"] == true) {
						group = strconv.Itoa(g)
					}
					*to = words(
						t,
						key[0] == 'I',
						str(a, "EncryptionAlgorithm"),
						str(a, "IntegrityAlgorithm"),
						group,
					)
				}
			}
		case "L2TP":
			ppp, ipsec := p["PPP"].(map[string]any), p["IPSec"].(map[string]any)
			s.protocol, s.server, s.login, s.password = "l2tp", str(
				ppp,
				"CommRemoteAddress",
			), str(
				ppp,
				"AuthName",
			), str(
				ppp,
				"AuthPassword",
			)
			// of its own, and cannot be set
			s.ike, s.esp = "aes256-sha256-modp2048", "aes256-sha256"
			if key, ok := ipsec["SharedSecret"].([]byte); ok {
				s.auth, s.psk = "psk", string(key)
			} else {
				s.auth = "certificate"
				use(str(ipsec, "PayloadCertificateUUID"), "-")
			}
		}
	}
	return s
}

// knowsSSwan is what the Android client of the IKE daemon takes out of its profile. It
// trusts the one certificate of the file.
func knowsSSwan(t *testing.T, data []byte) (s system) {
	t.Helper()
	var f struct {
		Type   string
		Remote struct{ Addr, ID, Cert string }
		Local  struct {
			EAPID string `json:"eap_id"`
			ID    string
			P12   string
		}
		IKE   string                     `json:"ike-proposal"`
		ESP   string                     `json:"esp-proposal"`
		Split struct{ Subnets []string } `json:"split-tunneling"`
	}
	if err := json.Unmarshal(data, &f); err != nil {
		t.Fatal(err)
	}
	s = system{
		protocol: "ikev2",
		server:   f.Remote.Addr,
		remoteID: f.Remote.ID,
		localID:  f.Local.ID,
		ike:      f.IKE,
		esp:      f.ESP,
		login:    f.Local.EAPID,
		routes:   f.Split.Subnets,
	}
	s.auth = map[string]string{
		"ikev2-eap":     "eap-mschapv2",
		"ikev2-cert":    "certificate",
		"ikev2-eap-tls": "eap-tls",
	}[f.Type]
	if s.remoteID == "" {
		s.remoteID = s.server
	}
	der, err := base64.StdEncoding.DecodeString(f.Remote.Cert)
	if err != nil {
		t.Fatal(err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	s.cas = []*x509.Certificate{c}
	if f.Local.P12 != "" {
		data, err := base64.StdEncoding.DecodeString(f.Local.P12)
		if err != nil {
			t.Fatal(err)
		}
		s.leaf = &x509.Certificate{Raw: data} // its passphrase is on the card
	}
	return s
}

// knowsONC is what ChromeOS takes out of an Open Network Configuration.
func knowsONC(t *testing.T, data []byte) (s system) {
	t.Helper()
	var f struct {
		NetworkConfigurations []struct {
			VPN struct {
				Type, Host string
				L2TP       struct{ Username, Password string }
				IPsec      struct {
					IKEVersion                                    int
					AuthenticationType, PSK, ClientCertRef        string
					LocalIdentity, RemoteIdentity, ClientCertType string
					ServerCARefs                                  []string
					EAP                                           struct {
						Outer, Identity,
						Password string
					}
				}
			}
		}
		Certificates []struct{ GUID, Type, X509, PKCS12 string }
	}
	if err := json.Unmarshal(data, &f); err != nil {
		t.Fatal(err)
	}
	v := f.NetworkConfigurations[0].VPN
	i := v.IPsec
	s = system{
		protocol: "ikev2",
		server:   v.Host,
		remoteID: i.RemoteIdentity,
		localID:  i.LocalIdentity,
		psk:      i.PSK,
		login:    i.EAP.Identity,
		password: i.EAP.Password,
	}
	s.ike, s.esp = "aes256-sha256-modp2048", "aes128-sha256" // of its own, and cannot be set
	if i.IKEVersion == 1 {
		s.protocol, s.login, s.password, s.ike, s.esp =
			"l2tp", v.L2TP.Username, v.L2TP.Password, "aes128-sha1-modp2048", "aes128-sha1"
	}
	if s.remoteID == "" {
		s.remoteID = v.Host
	}
	s.auth = map[string]string{
		"PSK":  "psk",
		"Cert": "certificate",
		"EAP":  "eap-mschapv2",
	}[i.AuthenticationType]
	for _, c := range f.Certificates {
		switch {
		case c.Type == "Authority" || c.Type == "Server":
			der := []byte(c.X509)
			if b, _ := pem.Decode(der); b != nil {
				der = b.Bytes
			} else if raw, err :=
				base64.StdEncoding.DecodeString(strings.Join(strings.Fields(c.X509),
					"")); err == nil {
				der = raw
			}
			x, err := x509.ParseCertificate(der)
			if err != nil {
				t.Fatal(err)
			}
			for _, ref := range i.ServerCARefs {
				if ref == c.GUID {
					s.cas = append(s.cas, x)
				}
			}
		case c.Type == "Client" && c.GUID == i.ClientCertRef:
			data, err := base64.StdEncoding.DecodeString(c.PKCS12)
			if err != nil {
				t.Fatal(err)
			}
			own, err := openP12(data, "", "")
			if err != nil {
				t.Fatal(err)
			}
			s.leaf, s.chain, s.key = own.leaf, own.chain, own.key.(crypto.Signer)
		}
	}
	return s
}

// knowsProfile is what Windows takes out of a VPN profile of device management; certificates
// and the sign-in come from elsewhere.
func knowsProfile(t *testing.T, data []byte) (s system) {
	t.Helper()
	var f struct {
		Native struct {
			Servers, NativeProtocolType, L2tpPsk string
			Authentication                       struct {
				UserMethod, MachineMethod string
				EAP                       struct {
					Inner string `xml:",innerxml"`
				} `xml:"Eap"`
			}
			Suite struct {
				AuthenticationTransformConstants, CipherTransformConstants,
				EncryptionMethod, IntegrityCheckMethod, DHGroup, PfsGroup string
			} `xml:"CryptographySuite"`
		} `xml:"NativeProfile"`
		Routes []struct {
			Address    string
			PrefixSize int
		} `xml:"Route"`
	}
	if err := xml.Unmarshal(bytes.TrimPrefix(data, []byte("\uFEFF")), &f); err != nil {
		t.Fatal(err)
	}
	n := f.Native
	s = system{
		protocol: strings.ToLower(n.NativeProtocolType),
		server:   n.Servers,
		remoteID: n.Servers,
		psk:      n.L2tpPsk,
	}
	for _, r := range f.Routes {
		s.routes = append(s.routes, fmt.Sprintf("%s/%d", r.Address, r.PrefixSize))
	}
	switch {
	case n.Authentication.MachineMethod == "Certificate":
		s.auth = "certificate"
	case s.protocol == "l2tp":
		s.auth = "psk"
	case strings.Contains(n.Authentication.EAP.Inner, ">26</Type>"):
		s.auth = "eap-mschapv2"
	case strings.Contains(n.Authentication.EAP.Inner, ">13</Type>"):
		s.auth = "eap-tls"
	}
	if a := n.Suite; a.EncryptionMethod != "" {
		if strings.HasPrefix(a.EncryptionMethod, "GCM") {
			t.Errorf(
				"EncryptionMethod is %q: the schema says AES_GCM_128 and AES_GCM_256",
				a.EncryptionMethod,
			)
		}
		s.ike, s.esp = words(
			t,
			true,
			a.EncryptionMethod,
			a.IntegrityCheckMethod,
			a.DHGroup,
		), words(
			t,
			false,
			a.CipherTransformConstants,
			a.AuthenticationTransformConstants,
			a.PfsGroup,
		)
	}
	return s
}

// TestParcelsElsewhere reads parcels as the systems would that do not run here, and signs in
// to the real daemon with what they then know.
func TestParcelsElsewhere(t *testing.T) {
	t.Parallel()
	w := systemsWorld(t)
	w.device("Mac", "macos", "14", "Harbour")
	w.device("Old phone", "ios", "12", "Harbour")
	w.device("Android 10", "android", "10", "Phones")
	w.device("Chromebook", "chromeos", "120", "Harbour")
	w.device("Managed", "windows", "11", "Harbour")
	// The gateway that takes certificates takes those of phones, too.
	crew := func(s system) system { // who signs in, where the file does not say it
		s.login, s.password = login, password
		return s
	}
	for _, c := range []struct {
		device, gateway, protocol, form string
	}{
		{"Mac", "Eap", "ikev2", ""},
		{"Mac", "Eaptls", "ikev2", ""},
		{"Mac", "Cert", "ikev2", ""},
		{"Mac", "Psk", "ikev2", ""},
		{"Mac", "Named", "l2tp", ""},
		{"Mac", "Certified", "l2tp", ""},
		{"Old phone", "Cert", "ikev2", ""},
		{"Android 10", "Eap", "ikev2", ""},
		{"Android 10", "Plain", "ikev2", ""},
		{"Chromebook", "Open", "ikev2", ""},
		{"Chromebook", "Openkey", "ikev2", ""},
		{"Chromebook", "Named", "l2tp", ""},
		{"Managed", "Eap", "ikev2", "windows-xml"},
		{"Managed", "Eaptls", "ikev2", "windows-xml"},
		{"Managed", "Cert", "ikev2", "windows-xml"},
		{"Managed", "Named", "l2tp", "windows-xml"},
	} {
		t.Run(c.device+"/"+c.gateway, func(t *testing.T) {
			args := []string{
				"profile",
				"add",
				c.device,
				"--gateway",
				c.gateway,
				"--protocol",
				c.protocol,
			}
			if c.form != "" {
				args = append(args, "--format", c.form)
			}
			w.r.do(args...)
			parcel := w.r.build(c.device + "/" + c.gateway)
			switch {
			case strings.HasPrefix(c.device, "Mac"), c.device == "Old phone":
				s := knowsApple(t, only(t, parcel, ".mobileconfig"))
				if s.protocol == "ikev2" && s.auth != "psk" {
					file := "/etc/swanctl/x509/" + strings.ToLower(c.gateway) + "-certificate.pem"
					if by := w.gw.run(
						"openssl",
						"x509",
						"-in",
						file,
						"-noout",
						"-issuer",
						"-nameopt",
						"sep_multiline,utf8",
					); !strings.Contains(
						by+"\n",
						" CN="+s.issuer+"\n",
					) {
						t.Errorf(
							"the file says that %q issued the gateway's certificate: %s",
							s.issuer,
							by,
						)
					}
				}
				w.signs(t, s)
				proves(t, "signs in", "apple", c.protocol+" "+s.auth)
			case c.device == "Android 10":
				s := crew(knowsSSwan(t, only(t, parcel, ".sswan")))
				w.signs(t, s)
				proves(t, "signs in", "sswan", c.protocol+" "+s.auth)
			case c.device == "Chromebook":
				s := knowsONC(t, only(t, parcel, ".onc"))
				w.signs(t, s)
				proves(t, "signs in", "onc", c.protocol+" "+s.auth)
			default:
				s := crew(knowsProfile(t, only(t, parcel, ".xml")))
				// What device management brings beside it is what the script for Windows brings.
				w.r.do("profile", "change", c.device+"/"+c.gateway, "--format", "powershell")
				beside := filepath.Join(w.r.dir, "parcels", "beside-"+strings.ToLower(c.gateway))
				w.r.do("build", c.device+"/"+c.gateway, "--out", beside)
				m := newWindows(`PC\ada`, `PC\ada`)
				if err := m.run(t, beside, "-install.ps1"); err != nil {
					t.Fatal(err)
				}
				from := m.knows(t, "Skerry Line "+c.gateway)
				s.cas, s.leaf, s.chain, s.key = from.cas, from.leaf, from.chain, from.key
				w.signs(t, s)
				proves(t, "signs in", "windows-xml", c.protocol+" "+s.auth)
			}
		})
	}
}
