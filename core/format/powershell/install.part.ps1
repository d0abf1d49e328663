# Services that IPsec needs; how they started before is kept for the removal script.
if ($Connection.Tunnel -eq 'L2tp' -or $Connection.Tunnel -eq 'Ikev2') {
    foreach ($service in 'IKEEXT', 'PolicyAgent') {
        $before = (Get-Item -Path ('HKLM:\SYSTEM\CurrentControlSet\Services\' + $service)).GetValue('Start')
        if ((Get-Item -Path $memory).GetValue($service) -eq $null) {
            New-ItemProperty -Path $memory -Name $service -Value $before -PropertyType DWord | Out-Null
        }
        Set-Service -Name $service -StartupType Automatic
        Start-Service -Name $service
    }
}

# A gateway behind NAT is refused until this value is set and the computer was restarted.
if ($Connection.GatewayBehindNat) {
    $before = (Get-Item -Path $natKey).GetValue($natName)
    if ($before -ne 2) {
        if ($before -eq $null) { $before = 0 }
        New-ItemProperty -Path $memory -Name 'Nat' -Value $before -PropertyType DWord -Force | Out-Null
        New-ItemProperty -Path $natKey -Name $natName -Value 2 -PropertyType DWord -Force | Out-Null
        $restart = $true
    }
}

# Certificates: authorities into the machine's own store, where the system looks for
# them; the device's own with its key. What was there before is left alone on removal.
function Add-ToStore($certificate, $store, $location) {
    if ($Connection.Thumbprints -notcontains $certificate.Thumbprint) { throw ('The certificate {0} is not one that the script was built with. Nothing more was set up; get the script again.' -f $certificate.Thumbprint) }
    $opened = New-Object -TypeName Security.Cryptography.X509Certificates.X509Store -ArgumentList $store, $location
    $opened.Open('ReadWrite')
    try {
        $name = 'Certificate ' + $location + ' ' + $store + ' ' + $certificate.Thumbprint
        $there = @($opened.Certificates | Where-Object { $_.Thumbprint -eq $certificate.Thumbprint }).Count -gt 0
        $ours = @(Get-ChildItem -Path $root | Where-Object { $_.GetValue($name) -ne $null }).Count -gt 0
        if (-not $there) { $opened.Add($certificate) }
        if ($ours -or -not $there) { New-ItemProperty -Path $memory -Name $name -Value 1 -PropertyType DWord -Force | Out-Null }
    } finally { $opened.Close() }
}
foreach ($text in $Connection.Authorities) {
    $certificate = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList (, [Convert]::FromBase64String($text))
    $store = 'CA'
    if ($certificate.Subject -eq $certificate.Issuer) { $store = 'Root' }
    Add-ToStore $certificate $store 'LocalMachine'
}
