
# From here on the script is the same for every connection. It reads, and changes nothing. It needs nothing that
# Windows 7 lacks.
$ErrorActionPreference = 'SilentlyContinue'
'Wardicon diagnostics 1'
'platform: windows ' + [Environment]::OSVersion.Version
'time: ' + (Get-Date).ToUniversalTime().ToString('s') + 'Z'
$system = Get-WmiObject Win32_OperatingSystem
if (-not $system) { $system = Get-CimInstance Win32_OperatingSystem }
$boot = $system.LastBootUpTime
if ($boot -is [string]) { $boot = [Management.ManagementDateTimeConverter]::ToDateTime($boot) }
if ($boot) { 'running since: ' + $boot.ToUniversalTime().ToString('s') + 'Z' }
foreach ($name in $Look.Services) {
    $service = Get-Service -Name $name
    $start = (Get-ItemProperty ('HKLM:\SYSTEM\CurrentControlSet\Services\' + $name)).Start
    $begins = switch ($start) { 2 { 'automatic' } 3 { 'by hand' } 4 { 'disabled' } default { 'unknown' } }
    if ($service) { 'service ' + $name + ': ' + ([string]$service.Status).ToLower() + ', ' + $begins } else { 'service ' + $name + ': missing' }
}
if ($Look.BehindNat) {
    $value = (Get-ItemProperty 'HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent').AssumeUDPEncapsulationContextOnSendRule
    if ($null -eq $value) { 'registry natrule: missing' } else { 'registry natrule: ' + $value }
}
foreach ($print in $Look.Authorities) {
    if (Test-Path ('Cert:\LocalMachine\Root\' + $print)) { 'authority machine: present' }
    elseif (Test-Path ('Cert:\CurrentUser\Root\' + $print)) { 'authority machine: missing, it is in the store of the person' }
    else { 'authority machine: missing' }
}
foreach ($print in $Look.Identities) {
    $own = Get-Item ('Cert:\LocalMachine\My\' + $print)
    if (-not $own) { $own = Get-Item ('Cert:\CurrentUser\My\' + $print) }
    if (-not $own) { 'certificate machine: missing' }
    elseif (-not $own.HasPrivateKey) { 'certificate machine: missing, it has no key' }
    elseif ($own.NotAfter -lt (Get-Date)) { 'certificate machine: ended ' + $own.NotAfter.ToString('s') }
    else { 'certificate machine: present' }
}
$up = [bool](rasdial.exe | Where-Object { $_ -eq $Look.Name })
if (Get-Command Get-VpnConnection) {
    $connection = Get-VpnConnection -Name $Look.Name
    if (-not $connection) { $connection = Get-VpnConnection -Name $Look.Name -AllUserConnection }
    if ($connection) { 'connection: present' } else { 'connection: missing' }
    if ($connection) { 'protocol in use: ' + $connection.TunnelType }
} else {
    $books = @($env:APPDATA, $env:ProgramData) | ForEach-Object { $_ + '\Microsoft\Network\Connections\Pbk\rasphone.pbk' }
    if (Select-String -Path $books -SimpleMatch ('[' + $Look.Name + ']')) { 'connection: present' } else { 'connection: missing' }
}
if ($up) { 'connected: yes' } else { 'connected: no' }
$found = [Net.Dns]::GetHostAddresses($Look.Server)
if ($found) { 'name ' + $Look.Server + ': ' + ($found -join ' ') } else { 'name ' + $Look.Server + ': unresolved' }
$ends = [Net.NetworkInformation.NetworkInterface]::GetAllNetworkInterfaces() | Where-Object { $_.OperationalStatus -eq 'Up' }
'resolvers: ' + (($ends | ForEach-Object { $_.GetIPProperties().DnsAddresses } | Select-Object -Unique) -join ' ')
$table = (route.exe print) -join "`n"
'default routes: ' + ([regex]::Matches($table, '(?m)^\s*0\.0\.0\.0\s+0\.0\.0\.0\s').Count)
foreach ($route in $Look.Routes) {
    if ($table.Contains(' ' + $route.Split('/')[0])) { 'internal route ' + $route + ': present' } elseif ($up -and $Look.Split) { 'internal route ' + $route + ': missing' }
}
if ($Look.WhereAmI) {
    $seen = ''
    $question = [Net.WebRequest]::Create($Look.WhereAmI)
    $question.Timeout = 5000
    $answer = $question.GetResponse()
    if ($answer) { $seen = (New-Object IO.StreamReader($answer.GetResponseStream())).ReadToEnd() }
    $address = [regex]::Match($seen, '"address": *"([0-9a-fA-F.:]*)"').Groups[1].Value
    if ($seen -match '"match"') { 'outside address: ' + $address + ' through the gateway' }
    elseif ($seen -and $up -and -not $Look.Split) { 'outside address: ' + $address + ' not the gateway' }
    elseif ($seen) { 'outside address: ' + $address }
}
if ($up) {
    foreach ($name in $Look.Hosts) {
        $inside = [Net.Dns]::GetHostAddresses($name)
        if ($inside) { 'internal name ' + $name + ': ' + ($inside -join ' ') } else { 'internal name ' + $name + ': unresolved' }
        if ($inside -and (Test-Connection -ComputerName $name -Count 1 -Quiet)) { 'internal host ' + $name + ': answers' } else { 'internal host ' + $name + ': silent' }
    }
}
'end of the diagnostics'
