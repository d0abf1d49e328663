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
}

# What the install script found before it changed it comes back with the last connection.
if (Test-Path -Path $memory) {
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
