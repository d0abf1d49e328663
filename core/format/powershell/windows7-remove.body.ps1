
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

# Certificates that the install script added, unless another connection has them too.
if (Test-Path -Path $memory) {
    foreach ($name in @((Get-Item -Path $memory).GetValueNames() | Where-Object { $_ -like 'Certificate *' })) {
        if (@(Get-ChildItem -Path $root | Where-Object { $_.GetValue($name) -ne $null }).Count -gt 1) { continue }
        $word = $name.Split(' ')
        $opened = New-Object -TypeName Security.Cryptography.X509Certificates.X509Store -ArgumentList $word[2], $word[1]
        $opened.Open('ReadWrite')
        try {
            foreach ($certificate in @($opened.Certificates | Where-Object { $_.Thumbprint -eq $word[3] })) { $opened.Remove($certificate) }
        } finally { $opened.Close() }
    }
    # What the install script found before it changed it comes back with the last connection.
    if (@(Get-ChildItem -Path $root).Count -eq 1) {
        $kept = Get-Item -Path $memory
        foreach ($service in 'IKEEXT', 'PolicyAgent') {
            $start = $kept.GetValue($service)
            if ($start -ne $null) { Set-ItemProperty -Path ('HKLM:\SYSTEM\CurrentControlSet\Services\' + $service) -Name 'Start' -Value $start }
        }
        if ($kept.GetValue('Nat') -ne $null) { Set-ItemProperty -Path $natKey -Name $natName -Value ($kept.GetValue('Nat')) }
    }
    Remove-Item -Path $memory -Recurse -Force
}
Write-Host ('The connection "{0}" is removed.' -f $Connection.Name)
