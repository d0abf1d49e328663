#Requires -RunAsAdministrator
<#
.SYNOPSIS
  Crew connection of Skerry Line.
#>
[CmdletBinding()]
param(
    [Parameter()][string] $Name = 'Skerry Line Tallholm',
    [string] $Server = 'tallholm.skerryline.example'
)
Set-StrictMode -Version Latest
$ErrorActionPreference = 'Stop'

$connection = @{
    Name                 = $Name
    ServerAddress        = $Server
    TunnelType           = 'Ikev2'
    AuthenticationMethod = 'MachineCertificate'
    EncryptionLevel      = 'Required'
    SplitTunneling       = $true
    AllUserConnection    = $true
    PassThru             = $true
}
if (Get-VpnConnection -Name $Name -AllUserConnection -ErrorAction SilentlyContinue) {
    Remove-VpnConnection -Name $Name -AllUserConnection -Force
}
Add-VpnConnection @connection | Out-Null

Set-VpnConnectionIPsecConfiguration -ConnectionName $Name -AllUserConnection `
    -AuthenticationTransformConstants SHA256128 `
    -CipherTransformConstants AES256 `
    -DHGroup Group14 `
    -EncryptionMethod AES256 `
    -IntegrityCheckMethod SHA256 `
    -PfsGroup PFS2048 -Force
Add-VpnConnectionRoute -ConnectionName $Name -AllUserConnection -DestinationPrefix '10.30.0.0/16'
Write-Host "Ready: $Name"
