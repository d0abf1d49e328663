# The key is made on this computer and never leaves it: the computer's own, or the person's. These
# steps ask for its certificate, now and by a task every day, which renews it 30 days before it expires.
$steps = @'
param($memory, $secret = '')
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'
$known = Get-Item -Path $memory
$print = [string]($known.GetValue('Enrolled'))
$store = 'Cert:\' + $known.GetValue('Store') + '\My'
$own = @(Get-ChildItem -Path $store | Where-Object { $_.Thumbprint -eq $print })
$mark = [string]($known.GetValue('EnrolledBy'))
$left = -1
if ($own.Count -eq 1) { $left = (New-TimeSpan -Start (Get-Date) -End $own[0].NotAfter).Days }
if ($secret -ne '') {
    # Another secret than the last one says that the certificate no longer counts.
    $digest = [BitConverter]::ToString([Security.Cryptography.SHA256]::Create().ComputeHash([Text.Encoding]::UTF8.GetBytes($secret)))
    if ($digest -ne $mark) { $mark = $digest; $left = -1 }
}
if ($left -lt 30) {
    $renews = $left -gt 0 -and [string]($known.GetValue('RenewAddress')) -ne ''
    if (-not $renews -and $secret -eq '') { throw 'The certificate has expired, or cannot be renewed. Ask for a new script.' }
    # The same key is asked for again where an answer was lost.
    $request = Join-Path -Path ($known.GetValue('Folder')) -ChildPath 'request.req'
    if (-not (Test-Path -LiteralPath $request)) {
        $policy = Join-Path -Path ($known.GetValue('Folder')) -ChildPath 'request.inf'
        # Quotes in the name are doubled (CertStrToName), and again in the file, as is the percent sign.
        $subject = 'CN="' + $known.GetValue('CommonName').Replace('"', '""') + '"'
        $lines = @('[NewRequest]', ('Subject = "' + $subject.Replace('"', '""').Replace('%', '%%') + '"'), 'RequestType = PKCS10', ('MachineKeySet = ' + $known.GetValue('MachineKeySet')), 'Exportable = FALSE', 'Silent = TRUE', 'HashAlgorithm = SHA256', 'ProviderName = "Microsoft Software Key Storage Provider"', ('KeyAlgorithm = ' + $known.GetValue('KeyAlgorithm')), ('KeyLength = ' + $known.GetValue('KeyLength')))
        [IO.File]::WriteAllLines($policy, [string[]]$lines)
        certreq.exe -f -q -new $policy $request | Out-Null
        if ($LASTEXITCODE -ne 0) { throw ('The key could not be made (certreq, code {0}).' -f $LASTEXITCODE) }
    }
    $text = @([IO.File]::ReadAllLines($request) | Where-Object { $_ -notlike '-----*' }) -join ''
    $call = @{ Method = 'Post'; ContentType = 'application/pkcs10'; Body = $text; UseBasicParsing = $true; TimeoutSec = 60 }
    if ($renews) {
        $call.Uri = $known.GetValue('RenewAddress') + '/simplereenroll'
        $call.Certificate = $own[0]
    } else {
        $call.Uri = $known.GetValue('EnrolAddress') + '/simpleenroll'
        $call.Headers = @{ Authorization = 'Basic ' + [Convert]::ToBase64String([Text.Encoding]::UTF8.GetBytes('device:' + $secret)) }
    }
    [Net.ServicePointManager]::SecurityProtocol = 'Tls12'
    $answer = (Invoke-WebRequest @call).Content
    if ($answer -is [byte[]]) { $answer = [Text.Encoding]::ASCII.GetString($answer) }
    $answer = $answer -replace '\s', ''
    # It is taken for that key alone; its authority need not be trusted for anything else (6).
    $enrolment = New-Object -ComObject 'X509Enrollment.CX509Enrollment'
    $context = 1
    if ($known.GetValue('MachineKeySet') -eq 'TRUE') { $context = 2 }
    $enrolment.Initialize($context)
    $enrolment.InstallResponse(6, $answer, 1, '')
    $got = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2Collection
    $got.Import([Convert]::FromBase64String($answer))
    New-ItemProperty -Path $memory -Name 'Enrolled' -Value $got[0].Thumbprint -PropertyType String -Force | Out-Null
    New-ItemProperty -Path $memory -Name 'EnrolledBy' -Value $mark -PropertyType String -Force | Out-Null
    Remove-Item -Path $request
    if ($own.Count -eq 1) { Remove-Item -Path ($store + '\' + $print) -DeleteKey }
}
'@
foreach ($text in $Connection.Intermediates) {
    $certificate = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList (, [Convert]::FromBase64String($text))
    Add-ToStore $certificate 'CA' 'LocalMachine'
}
$notes = $memory
# Nobody but administrators makes folders there: below ProgramData one could be waiting.
$folder = Join-Path -Path $env:ProgramFiles -ChildPath ('Wardicon-' + $Connection.Id)
$own = @{ Store = 'LocalMachine'; MachineKeySet = 'TRUE' }
$principal = New-ScheduledTaskPrincipal -UserId 'S-1-5-18' -LogonType ServiceAccount -RunLevel Highest
if ($Connection.PersonIdentity) {
    # What the person's task reads and writes is the person's.
    $notes = 'HKCU:\SOFTWARE\Wardicon\Connections\' + $Connection.Id
    New-ItemProperty -Path $memory -Name 'Person' -Value $runs -PropertyType String -Force | Out-Null
    if (-not (Test-Path -Path $notes)) { New-Item -Path $notes -Force | Out-Null }
    $folder = Join-Path -Path $env:LOCALAPPDATA -ChildPath ('Wardicon-' + $Connection.Id)
    $own = @{ Store = 'CurrentUser'; MachineKeySet = 'FALSE' }
    $principal = New-ScheduledTaskPrincipal -UserId $runs -LogonType Interactive -RunLevel Limited
}
New-Item -Path $folder -ItemType Directory -Force | Out-Null
if ($Connection.PersonIdentity) {
    icacls.exe $folder /inheritance:r /grant '*S-1-5-18:(OI)(CI)F' /grant '*S-1-5-32-544:(OI)(CI)F' /grant ($runs + ':(OI)(CI)F') | Out-Null
} else {
    icacls.exe $folder /inheritance:r /grant '*S-1-5-18:(OI)(CI)F' /grant '*S-1-5-32-544:(OI)(CI)F' | Out-Null
}
if ($LASTEXITCODE -ne 0) { throw 'The folder for the certificate could not be closed to others. Nothing more was set up.' }
New-ItemProperty -Path $notes -Name 'Folder' -Value $folder -PropertyType String -Force | Out-Null
foreach ($name in 'Store', 'MachineKeySet') { New-ItemProperty -Path $notes -Name $name -Value $own[$name] -PropertyType String -Force | Out-Null }
foreach ($name in 'EnrolAddress', 'RenewAddress', 'CommonName', 'KeyAlgorithm', 'KeyLength') {
    New-ItemProperty -Path $notes -Name $name -Value $Connection[$name] -PropertyType String -Force | Out-Null
}
& ([ScriptBlock]::Create($steps)) $notes $Connection.EnrolSecret
$file = Join-Path -Path $folder -ChildPath 'certificate.ps1'
[IO.File]::WriteAllText($file, $steps)
$action = New-ScheduledTaskAction -Execute 'powershell.exe' -Argument ('-NoProfile -NonInteractive -WindowStyle Hidden -ExecutionPolicy Bypass -File "' + $file + '" "' + $notes + '"')
$settings = New-ScheduledTaskSettingsSet -AllowStartIfOnBatteries -DontStopIfGoingOnBatteries -StartWhenAvailable
Register-ScheduledTask -TaskName ($marker + ' renewal') -Action $action -Trigger (New-ScheduledTaskTrigger -Daily -At '03:00' -RandomDelay (New-TimeSpan -Minutes 360)) -Principal $principal -Settings $settings -Force | Out-Null

