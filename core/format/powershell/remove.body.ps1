
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

foreach ($task in $marker, ($marker + ' renewal')) { Get-ScheduledTask -TaskName $task -ErrorAction SilentlyContinue | Unregister-ScheduledTask -Confirm:$false }

# A key that was made here goes with its certificate.
$personal = 'HKCU:\SOFTWARE\Wardicon\Connections\' + $Connection.Id
foreach ($notes in $memory, $personal) {
    if (-not (Test-Path -Path $notes)) { continue }
    $kept = Get-Item -Path $notes
    $person = [string]($kept.GetValue('Person'))
    if ($person -ne '' -and $person -ne [Security.Principal.WindowsIdentity]::GetCurrent().Name) {
        Write-Warning ('The key belongs to {0} and stays in that person''s store. Run this script from that account first to remove it.' -f $person)
    }
    $print = [string]($kept.GetValue('Enrolled'))
    $own = 'Cert:\' + $kept.GetValue('Store') + '\My\' + $print
    if ($print -ne '' -and (Test-Path -Path $own)) { Remove-Item -Path $own -DeleteKey }
    if ($kept.GetValue('Folder') -ne $null -and (Test-Path -LiteralPath ($kept.GetValue('Folder')))) { Remove-Item -Path ($kept.GetValue('Folder')) -Recurse -Force }
}
if (Test-Path -Path $personal) { Remove-Item -Path $personal -Recurse -Force }

# <what every Windows has>
if (Get-VpnConnection -Name $Connection.Name -AllUserConnection:$all -ErrorAction SilentlyContinue) { throw 'The connection is still there.' }
Write-Host ('The connection "{0}" is removed.' -f $Connection.Name)
