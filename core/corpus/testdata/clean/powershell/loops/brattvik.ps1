$Name    = "Skerry Line Brattvik"
$Domain  = "skerryline.example"
$Routes  = @(
    "10.50.0.0/16"
    "10.51.0.0/16"
)
$eap = New-EapConfiguration -Tls -VerifyServerIdentity -UserCertificate
Add-VpnConnection -Name $Name -ServerAddress "brattvik.$Domain" -TunnelType IKEv2 -AuthenticationMethod Eap `
    -EapConfigXmlStream $eap.EapConfigXmlStream -SplitTunneling -DnsSuffix "inside.$Domain"
foreach ($route in $Routes) {
    Add-VpnConnectionRoute -ConnectionName $Name -DestinationPrefix $route -PassThru
}
"10.52.0.0/16", "10.53.0.0/16" | ForEach-Object { Add-VpnConnectionRoute -ConnectionName $Name -DestinationPrefix $_ }
Set-VpnConnectionIPsecConfiguration -ConnectionName $Name -AuthenticationTransformConstants GCMAES256 -CipherTransformConstants GCMAES256 -DHGroup ECP384 -EncryptionMethod GCMAES256 -IntegrityCheckMethod SHA384 -PfsGroup ECP384 -Force
