
# From here on the script is the same for every connection. It reads, and changes nothing.
$ErrorActionPreference = 'SilentlyContinue'
'Wardicon examination 1'
'platform: windows ' + [Environment]::OSVersion.Version
'time: ' + (Get-Date).ToUniversalTime().ToString('s') + 'Z'
foreach ($name in $Look.Services) {
    $service = Get-CimInstance Win32_Service -Filter "Name='$name'"
    if ($service) { 'service ' + $name + ': ' + $service.State.ToLower() + ', ' + $service.StartMode.ToLower() } else { 'service ' + $name + ': missing' }
}
if ($Look.BehindNat) {
    $value = (Get-ItemProperty 'HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent').AssumeUDPEncapsulationContextOnSendRule
    if ($null -eq $value) { 'registry natrule: missing' } else { 'registry natrule: ' + $value }
    'running since: ' + (Get-CimInstance Win32_OperatingSystem).LastBootUpTime.ToUniversalTime().ToString('s') + 'Z'
}
foreach ($print in $Look.Authorities) {
    if (Test-Path ('Cert:\LocalMachine\Root\' + $print)) { 'authority machine: present' }
    elseif (Test-Path ('Cert:\CurrentUser\Root\' + $print)) { 'authority machine: missing, it is in the store of the person' }
    else { 'authority machine: missing' }
}
$connection = Get-VpnConnection -Name $Look.Name
if (-not $connection) { $connection = Get-VpnConnection -Name $Look.Name -AllUserConnection }
if ($connection) { 'connection: present, ' + $connection.TunnelType + ', ' + $connection.ConnectionStatus } else { 'connection: missing' }
$found = [Net.Dns]::GetHostAddresses($Look.Server)
if ($found) { 'name ' + $Look.Server + ': ' + ($found -join ' ') } else { 'name ' + $Look.Server + ': unresolved' }
'resolvers: ' + ((Get-DnsClientServerAddress | ForEach-Object { $_.ServerAddresses } | Select-Object -Unique) -join ' ')
foreach ($route in $Look.Routes) {
    if (Get-NetRoute -DestinationPrefix $route) { 'inside route ' + $route + ': present' } elseif ($connection.ConnectionStatus -eq 'Connected' -and $Look.Split) { 'inside route ' + $route + ': missing' }
}
if ($Look.WhereAmI) {
    $seen = (Invoke-RestMethod -Uri $Look.WhereAmI -TimeoutSec 5)
    if ($seen.match) { 'outside address: ' + $seen.address + ' through ' + $seen.match.gateway }
    elseif ($seen -and $connection.ConnectionStatus -eq 'Connected' -and -not $Look.Split) { 'outside address: ' + $seen.address + ' not the gateway' }
    elseif ($seen) { 'outside address: ' + $seen.address }
}
if ($connection.ConnectionStatus -eq 'Connected') {
    foreach ($name in $Look.Hosts) {
        $inside = [Net.Dns]::GetHostAddresses($name)
        if ($inside) { 'inside name ' + $name + ': ' + ($inside -join ' ') } else { 'inside name ' + $name + ': unresolved' }
        if ($inside -and (Test-Connection -ComputerName $name -Count 1 -Quiet)) { 'inside host ' + $name + ': answers' } else { 'inside host ' + $name + ': silent' }
    }
}
'end of the examination'
