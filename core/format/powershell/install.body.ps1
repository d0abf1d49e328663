
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'

$all     = $Connection.AllUsers
$marker  = 'Wardicon ' + $Connection.Id
$root    = 'HKLM:\SOFTWARE\Wardicon\Connections'
$memory  = $root + '\' + $Connection.Id
$natKey  = 'HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent'
$natName = 'AssumeUDPEncapsulationContextOnSendRule'
$restart = $false

# What belongs to a person must not end up with the administrator who runs this.
$runs   = [Security.Principal.WindowsIdentity]::GetCurrent().Name
$person = (Get-CimInstance -ClassName Win32_ComputerSystem).UserName
if (-not $all -and $person -ne $runs) {
    throw ('This connection belongs to the person who is signed in ({0}), but the script runs as {1}. Run it from that person''s own account. Nothing was set up.' -f $person, $runs)
}
if ($Connection.PersonIdentity -and -not $person) { throw 'The certificate belongs to a person, and nobody is signed in. Sign in as that person first. Nothing was set up.' }
# <whose key>

# Where the list of digests lies beside, what was changed on the way is not run.
$list = $PSCommandPath -replace '-install\.ps1$', '-digests.txt'
if ($list -ne $PSCommandPath -and (Test-Path -LiteralPath $list)) {
    $line = (Get-FileHash -LiteralPath $PSCommandPath -Algorithm SHA256).Hash.ToLowerInvariant() + '  ' + (Split-Path -Leaf -Path $PSCommandPath)
    if (@(Get-Content -LiteralPath $list -Encoding UTF8 | Where-Object { $_ -ceq $line }).Count -eq 0) {
        throw 'This script is not the one that was built: it was changed on the way. Nothing was set up; get it again.'
    }
}

Write-Host ('Setting up the connection "{0}" ...' -f $Connection.Name)
if (-not (Test-Path -Path $memory)) { New-Item -Path $memory -Force | Out-Null }

# Under another name it was made from an earlier parcel: that one goes.
$earlier = (Get-Item -Path $memory).GetValue('Name')
if ($earlier -ne $null -and $earlier -ne $Connection.Name) {
    if (Get-VpnConnection -Name $earlier -AllUserConnection:$all -ErrorAction SilentlyContinue) { Remove-VpnConnection -Name $earlier -AllUserConnection:$all -Force }
}
New-ItemProperty -Path $memory -Name 'Name' -Value $Connection.Name -PropertyType String -Force | Out-Null

# <what every Windows has>
if ($Connection.PersonIdentity -and $person -ne $runs) {
    # The person's own store is reached by a task that runs once as that person. The file can
    # be read by nobody else, and is gone afterwards.
    # Nobody but administrators makes folders there: below ProgramData one could be waiting.
    $folder = Join-Path -Path $env:ProgramFiles -ChildPath ('Wardicon-' + $Connection.Id)
    New-Item -Path $folder -ItemType Directory -Force | Out-Null
    try {
        icacls.exe $folder /inheritance:r /grant '*S-1-5-18:(OI)(CI)F' /grant '*S-1-5-32-544:(OI)(CI)F' /grant ($person + ':(OI)(CI)RX') | Out-Null
        if ($LASTEXITCODE -ne 0) { throw 'The folder for the certificate could not be closed to others. Nothing more was set up.' }
        $file = Join-Path -Path $folder -ChildPath 'identity.p12'
        [IO.File]::WriteAllBytes($file, [Convert]::FromBase64String($Connection.Identity))
        [IO.File]::WriteAllText($file + '.txt', $Connection.Passphrase)
        $steps = '$f = ''' + $file.Replace("'", "''") + '''; $c = New-Object Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList $f, ([IO.File]::ReadAllText($f + ''.txt'')), ''PersistKeySet, UserKeySet''; $s = New-Object Security.Cryptography.X509Certificates.X509Store -ArgumentList ''My'', ''CurrentUser''; $s.Open(''ReadWrite''); $s.Add($c); $s.Close()'
        $action = New-ScheduledTaskAction -Execute 'powershell.exe' -Argument ('-NoProfile -NonInteractive -WindowStyle Hidden -EncodedCommand ' + [Convert]::ToBase64String([Text.Encoding]::Unicode.GetBytes($steps)))
        $principal = New-ScheduledTaskPrincipal -UserId $person -LogonType Interactive -RunLevel Limited
        $settings = New-ScheduledTaskSettingsSet -AllowStartIfOnBatteries -DontStopIfGoingOnBatteries
        Register-ScheduledTask -TaskName ($marker + ' certificate') -Action $action -Principal $principal -Settings $settings -Force | Out-Null
        Start-ScheduledTask -TaskName ($marker + ' certificate')
        $tries = 0
        while ([string](Get-ScheduledTask -TaskName ($marker + ' certificate')).State -eq 'Running' -and $tries -lt 60) { Start-Sleep -Seconds 1; $tries += 1 }
        $code = (Get-ScheduledTaskInfo -TaskName ($marker + ' certificate')).LastTaskResult
        Unregister-ScheduledTask -TaskName ($marker + ' certificate') -Confirm:$false
        if ($code -ne 0) { throw ('The certificate could not be put into the store of {0} (code {1}).' -f $person, $code) }
    } finally { Remove-Item -Path $folder -Recurse -Force }
} elseif ($Connection.Identity -ne '') {
    $location = 'CurrentUser'
    $flags = 'PersistKeySet, UserKeySet'
    if (-not $Connection.PersonIdentity) { $location = 'LocalMachine'; $flags = 'PersistKeySet, MachineKeySet' }
    $certificate = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList ([Convert]::FromBase64String($Connection.Identity)), $Connection.Passphrase, ([Security.Cryptography.X509Certificates.X509KeyStorageFlags]$flags)
    Add-ToStore $certificate 'My' $location
}

# <a key made here>
# The connection itself: made, or brought to this state where it exists.
$settings = @{
    Name                 = $Connection.Name
    ServerAddress        = $Connection.ServerAddress
    TunnelType           = $Connection.Tunnel
    AuthenticationMethod = $Connection.Authentication
    EncryptionLevel      = $Connection.Encryption
    SplitTunneling       = $Connection.SplitTunnel
    RememberCredential   = $Connection.Remember
    AllUserConnection    = $all
    Force                = $true
}
if ($Connection.PreSharedKey -ne '') { $settings.L2tpPsk = $Connection.PreSharedKey }
if ($Connection.Eap -eq 'Tls') { $settings.EapConfigXmlStream = (New-EapConfiguration -Tls -UserCertificate).EapConfigXmlStream }
if ($Connection.Eap -eq 'MSChapv2') { $settings.EapConfigXmlStream = (New-EapConfiguration).EapConfigXmlStream }
if ($Connection.Domains.Count -gt 0) { $settings.DnsSuffix = $Connection.Domains[0] }
$existing = Get-VpnConnection -Name $Connection.Name -AllUserConnection:$all -ErrorAction SilentlyContinue
if ($existing) {
    Set-VpnConnection @settings -WarningAction SilentlyContinue
} else {
    $settings.AllUserConnection = [switch]$all
    $settings.SplitTunneling = [switch]$Connection.SplitTunnel
    $settings.RememberCredential = [switch]$Connection.Remember
    Add-VpnConnection @settings -WarningAction SilentlyContinue
}

# Algorithms: cipher, transform, encryption, integrity, group, PFS group.
if ($Connection.Algorithms.Count -eq 6) {
    $a = $Connection.Algorithms
    Set-VpnConnectionIPsecConfiguration -ConnectionName $Connection.Name -CipherTransformConstants $a[0] -AuthenticationTransformConstants $a[1] -EncryptionMethod $a[2] -IntegrityCheckMethod $a[3] -DHGroup $a[4] -PfsGroup $a[5] -AllUserConnection:$all -Force
}

# Routes: exactly the ones that are wanted.
$present = @()
$made = Get-VpnConnection -Name $Connection.Name -AllUserConnection:$all
if ($made.Routes) { $present = @($made.Routes | ForEach-Object { $_.DestinationPrefix }) }
foreach ($route in $present) {
    if ($Connection.Routes -notcontains $route) {
        Remove-VpnConnectionRoute -ConnectionName $Connection.Name -DestinationPrefix $route -AllUserConnection:$all
    }
}
foreach ($route in $Connection.Routes) {
    if ($present -notcontains $route) {
        Add-VpnConnectionRoute -ConnectionName $Connection.Name -DestinationPrefix $route -AllUserConnection:$all
    }
}

# Internal names are asked of the inside servers.
Get-DnsClientNrptRule | Where-Object { $_.Comment -eq $marker } | ForEach-Object { Remove-DnsClientNrptRule -Name $_.Name -Force }
if ($Connection.DnsServers.Count -gt 0) {
    foreach ($domain in $Connection.Domains) {
        Add-DnsClientNrptRule -Namespace ('.' + $domain) -NameServers $Connection.DnsServers -Comment $marker
        # The gateway's own name is asked outside, or nothing could ever be connected.
        if ($Connection.ServerAddress -like ('*.' + $domain)) { Add-DnsClientNrptRule -Namespace $Connection.ServerAddress -Comment $marker }
    }
}

# Connecting on demand: when a name in these domains is looked up, outside of these networks.
# Only a person's own connection has that.
if (-not $all) {
    $trigger = Get-VpnConnectionTrigger -ConnectionName $Connection.Name -ErrorAction SilentlyContinue
    if ($trigger) {
        foreach ($entry in @($trigger.DnsConfig)) { Remove-VpnConnectionTriggerDnsConfiguration -ConnectionName $Connection.Name -DnsSuffix $entry.DnsSuffix -Force }
        if (@($trigger.TrustedNetwork).Count -gt 0) { Remove-VpnConnectionTriggerTrustedNetwork -ConnectionName $Connection.Name -DnsSuffix @($trigger.TrustedNetwork) -Force }
    }
    foreach ($domain in $Connection.DemandDomains) { Add-VpnConnectionTriggerDnsConfiguration -ConnectionName $Connection.Name -DnsSuffix $domain -DnsIPAddress $Connection.DnsServers -Force }
    if ($Connection.TrustedSuffixes.Count -gt 0) { Add-VpnConnectionTriggerTrustedNetwork -ConnectionName $Connection.Name -DnsSuffix $Connection.TrustedSuffixes -Force }
}

# Connecting at sign-in: a task that holds no secret.
Get-ScheduledTask -TaskName $marker -ErrorAction SilentlyContinue | Unregister-ScheduledTask -Confirm:$false
if ($Connection.AtSignIn) {
    # It runs as whoever signs in, on battery too, and again where the network is not there yet.
    $action = New-ScheduledTaskAction -Execute 'rasdial.exe' -Argument ('"' + $Connection.Name + '"')
    $settings = New-ScheduledTaskSettingsSet -AllowStartIfOnBatteries -DontStopIfGoingOnBatteries -StartWhenAvailable -RestartCount 5 -RestartInterval (New-TimeSpan -Minutes 1)
    if ($all) {
        $principal = New-ScheduledTaskPrincipal -GroupId 'S-1-5-32-545' -RunLevel Limited
        $when = New-ScheduledTaskTrigger -AtLogOn
    } else {
        $principal = New-ScheduledTaskPrincipal -UserId $person -LogonType Interactive -RunLevel Limited
        $when = New-ScheduledTaskTrigger -AtLogOn -User $person
    }
    Register-ScheduledTask -TaskName $marker -Action $action -Trigger $when -Principal $principal -Settings $settings | Out-Null
}

# The web proxy while connected.
if ($Connection.ProxyScript -ne '') {
    Set-VpnConnectionProxy -ConnectionName $Connection.Name -AutoConfigurationScript $Connection.ProxyScript
} elseif ($Connection.ProxyServer -ne '') {
    Set-VpnConnectionProxy -ConnectionName $Connection.Name -ProxyServer $Connection.ProxyServer -ExceptionPrefix $Connection.ProxyBypass -BypassProxyForLocal
}

# The sign-in, kept by the system itself (RasSetCredentials).
if ($Connection.Remember) {
    Add-Type -Namespace Wardicon -Name SignIn -MemberDefinition @'
[StructLayout(LayoutKind.Sequential, CharSet = CharSet.Unicode)]
public struct Credentials {
    public int Size;
    public int Mask;
    [MarshalAs(UnmanagedType.ByValTStr, SizeConst = 257)] public string User;
    [MarshalAs(UnmanagedType.ByValTStr, SizeConst = 257)] public string Password;
    [MarshalAs(UnmanagedType.ByValTStr, SizeConst = 16)] public string Domain;
}
[DllImport("rasapi32.dll", CharSet = CharSet.Unicode)]
public static extern int RasSetCredentialsW(string phonebook, string entry, ref Credentials credentials, bool clear);
'@
    $signIn = New-Object -TypeName 'Wardicon.SignIn+Credentials'
    $signIn.Size = [Runtime.InteropServices.Marshal]::SizeOf($signIn)
    $signIn.Mask = 3
    $book = $null
    if ($all) {
        $signIn.Mask = 11
        $book = Join-Path -Path $env:ProgramData -ChildPath 'Microsoft\Network\Connections\Pbk\rasphone.pbk'
    }
    $signIn.User = $Connection.Login
    $signIn.Password = $Connection.Password
    $code = [Wardicon.SignIn]::RasSetCredentialsW($book, $Connection.Name, [ref]$signIn, $false)
    if ($code -ne 0) { Write-Warning ('The sign-in could not be saved (code {0}); Windows will ask for it.' -f $code) }
} elseif ($Connection.Login -ne '') {
    Write-Host ('Windows will ask for the sign-in. Login: {0}' -f $Connection.Login)
}

# Read back and compare.
$made = Get-VpnConnection -Name $Connection.Name -AllUserConnection:$all
$wrong = @()
if ($made.ServerAddress -ne $Connection.ServerAddress) { $wrong += 'server address' }
if ([string]$made.TunnelType -ne $Connection.Tunnel) { $wrong += 'tunnel type' }
if ([bool]$made.SplitTunneling -ne [bool]$Connection.SplitTunnel) { $wrong += 'split tunnel' }
if (Compare-Object -ReferenceObject @($Connection.Authentication) -DifferenceObject @($made.AuthenticationMethod | ForEach-Object { [string]$_ })) { $wrong += 'authentication' }
if ($Connection.Algorithms.Count -eq 6 -and [string]$made.IPSecCustomPolicy.DHGroup -ne $Connection.Algorithms[4]) { $wrong += 'algorithms' }
if (Compare-Object -ReferenceObject @($Connection.Routes + '') -DifferenceObject @(@($made.Routes | ForEach-Object { $_.DestinationPrefix }) + '')) { $wrong += 'routes' }
if ($Connection.DemandDomains.Count -gt 0) {
    $trigger = Get-VpnConnectionTrigger -ConnectionName $Connection.Name
    if (Compare-Object -ReferenceObject $Connection.DemandDomains -DifferenceObject @(@($trigger.DnsConfig | ForEach-Object { $_.DnsSuffix }) + @())) { $wrong += 'domains on demand' }
    if (Compare-Object -ReferenceObject @($Connection.TrustedSuffixes + '') -DifferenceObject @(@($trigger.TrustedNetwork) + '')) { $wrong += 'trusted networks' }
}
if ($Connection.AtSignIn -and -not (Get-ScheduledTask -TaskName $marker -ErrorAction SilentlyContinue)) { $wrong += 'task at sign-in' }
if ($wrong.Count -gt 0) { throw ('The connection is not as it should be: ' + ($wrong -join ', ')) }
Write-Host 'The connection is set up and was compared with what was meant.'
if ($restart) { Write-Warning 'Restart the computer once before you connect: the gateway stands behind NAT.' }
