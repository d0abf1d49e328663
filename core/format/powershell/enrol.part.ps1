# The key is made on this computer and never leaves it. These steps ask for its certificate, now and
# by a task every day, which renews it 30 days before it expires.
$steps = @'
param($memory, $secret = '')
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'
$known = Get-Item -Path $memory
$print = [string]($known.GetValue('Enrolled'))
$own = @(Get-ChildItem -Path 'Cert:\LocalMachine\My' | Where-Object { $_.Thumbprint -eq $print })
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
        $lines = @('[NewRequest]', ('Subject = "' + $subject.Replace('"', '""').Replace('%', '%%') + '"'), 'RequestType = PKCS10', 'MachineKeySet = TRUE', 'Exportable = FALSE', 'Silent = TRUE', 'HashAlgorithm = SHA256', 'ProviderName = "Microsoft Software Key Storage Provider"', ('KeyAlgorithm = ' + $known.GetValue('KeyAlgorithm')), ('KeyLength = ' + $known.GetValue('KeyLength')))
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
    $enrolment.Initialize(2)
    $enrolment.InstallResponse(6, $answer, 1, '')
    $got = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2Collection
    $got.Import([Convert]::FromBase64String($answer))
    New-ItemProperty -Path $memory -Name 'Enrolled' -Value $got[0].Thumbprint -PropertyType String -Force | Out-Null
    New-ItemProperty -Path $memory -Name 'EnrolledBy' -Value $mark -PropertyType String -Force | Out-Null
    Remove-Item -Path $request
    if ($own.Count -eq 1) { Remove-Item -Path ('Cert:\LocalMachine\My\' + $print) -DeleteKey }
}
'@
foreach ($text in $Connection.Intermediates) {
    $certificate = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList (, [Convert]::FromBase64String($text))
    Add-ToStore $certificate 'CA' 'LocalMachine'
}
$folder = Join-Path -Path $env:ProgramData -ChildPath ('Wardicon-' + $Connection.Id)
New-Item -Path $folder -ItemType Directory -Force | Out-Null
icacls.exe $folder /inheritance:r /grant '*S-1-5-18:(OI)(CI)F' /grant '*S-1-5-32-544:(OI)(CI)F' | Out-Null
if ($LASTEXITCODE -ne 0) { throw 'The folder for the certificate could not be closed to others. Nothing more was set up.' }
New-ItemProperty -Path $memory -Name 'Folder' -Value $folder -PropertyType String -Force | Out-Null
foreach ($name in 'EnrolAddress', 'RenewAddress', 'CommonName', 'KeyAlgorithm', 'KeyLength') {
    New-ItemProperty -Path $memory -Name $name -Value $Connection[$name] -PropertyType String -Force | Out-Null
}
& ([ScriptBlock]::Create($steps)) $memory $Connection.EnrolSecret
$file = Join-Path -Path $folder -ChildPath 'certificate.ps1'
[IO.File]::WriteAllText($file, $steps)
$action = New-ScheduledTaskAction -Execute 'powershell.exe' -Argument ('-NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $file + '" "' + $memory + '"')
$principal = New-ScheduledTaskPrincipal -UserId 'S-1-5-18' -LogonType ServiceAccount -RunLevel Highest
$settings = New-ScheduledTaskSettingsSet -AllowStartIfOnBatteries -DontStopIfGoingOnBatteries -StartWhenAvailable
Register-ScheduledTask -TaskName ($marker + ' renewal') -Action $action -Trigger (New-ScheduledTaskTrigger -Daily -At '03:00' -RandomDelay (New-TimeSpan -Minutes 360)) -Principal $principal -Settings $settings -Force | Out-Null

