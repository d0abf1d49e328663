Add-VpnConnection -Name 'Norrvik' -ServerAddress 'norrvik.skerryline.example' -TunnelType Ikev2 -AuthenticationMethod Eap @add@
@after@
-----
@add@
-AllUserConnection => carried
-AllUserConnection:$true => carried
-SplitTunneling => carried
-RememberCredential => left
-UseWinlogonCredential => left
-UseWinlogonCredential:$false => idle
-EncryptionLevel Required => idle
-EncryptionLevel Maximum => idle
-EncryptionLevel Optional => noted
-EncryptionLevel NoEncryption => noted
-DnsSuffix skerryline.example => left
-IdleDisconnectSeconds 0 => idle
-IdleDisconnectSeconds 600 => left
-ServerList $servers => left
-MachineCertificateEKUFilter '1.3.6.1.5.5.7.3.2' => left
-MachineCertificateIssuerFilter $issuer => left
-CustomConfiguration $xml => left
-PlugInApplicationID 'Maker.App_x' => refused
-Force => idle
-PassThru => idle
-WhatIf => idle
-ThrottleLimit 4 => idle
-CimSession $far => left
-ErrorAction Stop => idle
-Verbose => idle
-Nonsense 4 => left noted
-L2tpPsk 'kelp 4497 harbour' => noted
@after@
Add-VpnConnectionRoute -ConnectionName 'Norrvik' -DestinationPrefix 10.20.0.0/16 => idle
Add-VpnConnectionRoute -ConnectionName 'Norrvik' -DestinationPrefix 10.20.0.0/16 -RouteMetric 5 => left
Add-VpnConnectionRoute -ConnectionName 'Norrvik' -DestinationPrefix $networks => left
Add-VpnConnectionTriggerDnsConfiguration -ConnectionName 'Norrvik' -DnsSuffix skerryline.example -DnsIPAddress 10.20.0.53 => carried
Add-VpnConnectionTriggerTrustedNetwork -ConnectionName 'Norrvik' -DnsSuffix home.skerryline.example => idle
Add-VpnConnectionTriggerApplication -ConnectionName 'Norrvik' -ApplicationID 'C:\ledger.exe' => left
Set-VpnConnectionProxy -ConnectionName 'Norrvik' -ProxyServer 'proxy.skerryline.example:3128' => carried
Set-VpnConnectionProxy -ConnectionName 'Norrvik' -AutoConfigurationScript 'http://proxy.skerryline.example/all.pac' => carried
Set-VpnConnectionProxy -ConnectionName 'Norrvik' -AutoDetect => left
Set-VpnConnectionProxy -ConnectionName 'Norrvik' -ProxyServer 'proxy.skerryline.example:3128' -BypassProxyForLocal => left
Set-VpnConnectionProxy -ConnectionName 'Norrvik' -ProxyServer 'proxy.skerryline.example:3128' -ExceptionPrefix '10.*' => carried
Set-VpnConnectionIPsecConfiguration -ConnectionName 'Norrvik' -AuthenticationTransformConstants GCMAES256 -CipherTransformConstants GCMAES256 -EncryptionMethod AES256 -IntegrityCheckMethod SHA256 -DHGroup ECP256 -PfsGroup ECP256 -Force => carried
Set-VpnConnectionIPsecConfiguration -ConnectionName 'Norrvik' -RevertToDefault -Force => idle
Set-VpnConnection -Name 'Norrvik' -SplitTunneling $true => carried
Set-VpnConnection -Name 'Norrvik' -SplitTunneling $false => idle
Set-VpnConnection -Name 'Norrvik' -RememberCredential $true => left
Set-VpnConnection -Name 'Norrvik' -ServerAddress other.skerryline.example => carried
Set-VpnConnection -Name 'Norrvik' -IdleDisconnectSeconds 300 => left
Import-PfxCertificate -FilePath a.p12 -CertStoreLocation Cert:\LocalMachine\My => left
Import-Certificate -FilePath ca.crt -CertStoreLocation Cert:\LocalMachine\Root => left
Add-DnsClientNrptRule -Namespace '.skerryline.example' -NameServers 10.20.0.53 => left
Set-ItemProperty -Path HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent -Name AssumeUDPEncapsulationContextOnSendRule -Value 2 => idle
Write-Host 'done' => idle
