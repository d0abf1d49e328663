$eap = New-EapConfiguration @eap@
Add-VpnConnection -Name 'Norrvik' -ServerAddress 'norrvik.skerryline.example' -TunnelType Ikev2 -AuthenticationMethod Eap -EapConfigXmlStream $eap.EapConfigXmlStream
-----
@eap@
-Tls => carried
-Tls -UserCertificate => left
-Tls -VerifyServerIdentity => carried
-Peap => left noted
-Peap -VerifyServerIdentity -FastReconnect => left noted
-Peap -TunnledEapAuthMethod $inner => left noted
-Ttls => left noted
-Ttls -TunnledNonEapAuthMethod MSCHAPv2 => left noted
-UseWinlogonCredential => left
