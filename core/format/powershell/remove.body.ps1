
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'

$all     = $Connection.AllUsers
$marker  = 'Wardicon ' + $Connection.Id
$root    = 'HKLM:\SOFTWARE\Wardicon\Connections'
$memory  = $root + '\' + $Connection.Id
$natKey  = 'HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent'
$natName = 'AssumeUDPEncapsulationContextOnSendRule'

$existing = Get-VpnConnection -Name $Connection.Name -AllUserConnection:$all -ErrorAction SilentlyContinue
if ($existing) {
    if ([string]$existing.ConnectionStatus -ne 'Disconnected') { rasdial.exe $Connection.Name /disconnect | Out-Null }
    Remove-VpnConnection -Name $Connection.Name -AllUserConnection:$all -Force
}
Get-DnsClientNrptRule | Where-Object { $_.Comment -eq $marker } | ForEach-Object { Remove-DnsClientNrptRule -Name $_.Name -Force }

Get-ScheduledTask -TaskName $marker -ErrorAction SilentlyContinue | Unregister-ScheduledTask -Confirm:$false

# <what every Windows has>
if (Get-VpnConnection -Name $Connection.Name -AllUserConnection:$all -ErrorAction SilentlyContinue) { throw 'The connection is still there.' }
Write-Host ('The connection "{0}" is removed.' -f $Connection.Name)
