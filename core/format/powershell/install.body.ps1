
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'

$all     = $Connection.AllUsers
$marker  = 'Wardicon ' + $Connection.Id
$root    = 'HKLM:\SOFTWARE\Wardicon\Connections'
$memory  = $root + '\' + $Connection.Id
$natKey  = 'HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent'
$natName = 'AssumeUDPEncapsulationContextOnSendRule'
$restart = $false

# Where the list of digests lies beside, what was changed on the way is not run.
$list = $PSCommandPath -replace '-install\.ps1$', '-digests.txt'
if ($list -ne $PSCommandPath -and (Test-Path -LiteralPath $list)) {
    $line = (Get-FileHash -LiteralPath $PSCommandPath -Algorithm SHA256).Hash.ToLowerInvariant() + '  ' + (Split-Path -Leaf -Path $PSCommandPath)
    if (@(Get-Content -LiteralPath $list -Encoding UTF8 | Where-Object { $_ -ceq $line }).Count -eq 0) {
        throw 'This script is not the one that was built: it was changed on the way. Nothing was set up; get it anew.'
    }
}

Write-Host ('Setting up the connection "{0}" ...' -f $Connection.Name)
if (-not (Test-Path -Path $memory)) { New-Item -Path $memory -Force | Out-Null }

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
    if ($Connection.Thumbprints -notcontains $certificate.Thumbprint) { throw ('The certificate {0} is not one that the script was built with. Nothing more was set up; get the script anew.' -f $certificate.Thumbprint) }
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
if ($Connection.Identity -ne '') {
    $location = 'CurrentUser'
    $flags = 'PersistKeySet, UserKeySet'
    if ($Connection.MachineIdentity) { $location = 'LocalMachine'; $flags = 'PersistKeySet, MachineKeySet' }
    $certificate = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList ([Convert]::FromBase64String($Connection.Identity)), $Connection.Passphrase, ([Security.Cryptography.X509Certificates.X509KeyStorageFlags]$flags)
    Add-ToStore $certificate 'My' $location
}

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

# Inside names are asked of the inside servers.
Get-DnsClientNrptRule | Where-Object { $_.Comment -eq $marker } | ForEach-Object { Remove-DnsClientNrptRule -Name $_.Name -Force }
if ($Connection.DnsServers.Count -gt 0) {
    foreach ($domain in $Connection.Domains) {
        Add-DnsClientNrptRule -Namespace ('.' + $domain) -NameServers $Connection.DnsServers -Comment $marker
    }
}

# Connecting on demand: when a name in these domains is looked up, outside of these networks.
foreach ($domain in $Connection.DemandDomains) {
    Add-VpnConnectionTriggerDnsConfiguration -ConnectionName $Connection.Name -DnsSuffix $domain -PassThru:$false -Force -ErrorAction SilentlyContinue
}
foreach ($suffix in $Connection.TrustedSuffixes) {
    Add-VpnConnectionTriggerTrustedNetwork -ConnectionName $Connection.Name -DnsSuffix $suffix -PassThru:$false -Force -ErrorAction SilentlyContinue
}

# Connecting at sign-in: a task that holds no secret.
Get-ScheduledTask -TaskName $marker -ErrorAction SilentlyContinue | Unregister-ScheduledTask -Confirm:$false
if ($Connection.AtSignIn) {
    $action = New-ScheduledTaskAction -Execute 'rasdial.exe' -Argument ('"' + $Connection.Name + '"')
    Register-ScheduledTask -TaskName $marker -Action $action -Trigger (New-ScheduledTaskTrigger -AtLogOn) | Out-Null
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
if ($wrong.Count -gt 0) { throw ('The connection is not as it should be: ' + ($wrong -join ', ')) }
Write-Host 'The connection is set up and was compared with what was meant.'
if ($restart) { Write-Warning 'Restart the computer once before you connect: the gateway stands behind NAT.' }
