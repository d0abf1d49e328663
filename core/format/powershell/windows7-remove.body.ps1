
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'

$root    = 'HKLM:\SOFTWARE\Wardicon\Connections'
$memory  = $root + '\' + $Connection.Id
$natKey  = 'HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent'
$natName = 'AssumeUDPEncapsulationContextOnSendRule'
$book    = Join-Path -Path $env:ProgramData -ChildPath 'Microsoft\Network\Connections\Pbk\rasphone.pbk'

if (Test-Path -Path $book) {
    $earlier = $Connection.Name
    if (Test-Path -Path $memory) { $earlier = (Get-Item -Path $memory).GetValue('Name') }
    $kept = @()
    $inside = $false
    foreach ($line in [IO.File]::ReadAllLines($book)) {
        if ($line.StartsWith('[')) { $inside = ($line -eq ('[' + $Connection.Name + ']')) -or ($line -eq ('[' + $earlier + ']')) }
        if (-not $inside) { $kept += $line }
    }
    [IO.File]::WriteAllLines($book, [string[]]$kept)
}

# <what every Windows has>
Write-Host ('The connection "{0}" is removed.' -f $Connection.Name)
