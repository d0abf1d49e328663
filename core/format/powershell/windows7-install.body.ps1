
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'

$root    = 'HKLM:\SOFTWARE\Wardicon\Connections'
$memory  = $root + '\' + $Connection.Id
$natKey  = 'HKLM:\SYSTEM\CurrentControlSet\Services\PolicyAgent'
$natName = 'AssumeUDPEncapsulationContextOnSendRule'
$book    = Join-Path -Path $env:ProgramData -ChildPath 'Microsoft\Network\Connections\Pbk\rasphone.pbk'
$restart = $false

$runs = [Security.Principal.WindowsIdentity]::GetCurrent()
$role = New-Object -TypeName Security.Principal.WindowsPrincipal -ArgumentList $runs
if (-not $role.IsInRole('S-1-5-32-544')) { throw 'Run this script as administrator. Nothing was set up.' }
if ($Connection.PersonIdentity) {
    $person = (Get-WmiObject -Class Win32_ComputerSystem).UserName
    if ($person -ne $runs.Name) {
        throw ('The certificate belongs to the person who is signed in ({0}), but the script runs as {1}. Run it from that person''s own account. Nothing was set up.' -f $person, $runs.Name)
    }
}

Write-Host ('Setting up the connection "{0}" ...' -f $Connection.Name)
if (-not (Test-Path -Path $memory)) { New-Item -Path $memory -Force | Out-Null }
$earlier = (Get-Item -Path $memory).GetValue('Name')
New-ItemProperty -Path $memory -Name 'Name' -Value $Connection.Name -PropertyType String -Force | Out-Null

# <what every Windows has>
if ($Connection.Identity -ne '') {
    $location = 'LocalMachine'
    $flags = 'PersistKeySet, MachineKeySet'
    if ($Connection.PersonIdentity) { $location = 'CurrentUser'; $flags = 'PersistKeySet, UserKeySet' }
    $certificate = New-Object -TypeName Security.Cryptography.X509Certificates.X509Certificate2 -ArgumentList ([Convert]::FromBase64String($Connection.Identity)), $Connection.Passphrase, ([Security.Cryptography.X509Certificates.X509KeyStorageFlags]$flags)
    Add-ToStore $certificate 'My' $location
}

# The entry: into the phone book of all who use the computer, in the place of an earlier one.
$kept = @()
$inside = $false
if (Test-Path -Path $book) {
    foreach ($line in [IO.File]::ReadAllLines($book)) {
        if ($line.StartsWith('[')) { $inside = ($line -eq ('[' + $Connection.Name + ']')) -or ($line -eq ('[' + $earlier + ']')) }
        if (-not $inside) { $kept += $line }
    }
} else {
    New-Item -Path (Split-Path -Parent -Path $book) -ItemType Directory -Force | Out-Null
}
[IO.File]::WriteAllLines($book, [string[]]($kept + $Connection.Entry + ''))

# The pre-shared key, kept by the system itself (RasSetCredentials).
if ($Connection.PreSharedKey -ne '') {
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
    $key = New-Object -TypeName 'Wardicon.SignIn+Credentials'
    $key.Size = [Runtime.InteropServices.Marshal]::SizeOf($key)
    $key.Mask = 16
    $key.Password = $Connection.PreSharedKey
    $code = [Wardicon.SignIn]::RasSetCredentialsW($book, $Connection.Name, [ref]$key, $false)
    if ($code -ne 0) { throw ('The pre-shared key could not be stored (code {0}).' -f $code) }
}

# Read back and compare.
if (@([IO.File]::ReadAllLines($book) | Where-Object { $_ -eq ('[' + $Connection.Name + ']') }).Count -ne 1) { throw 'The connection is not in the phone book.' }
Write-Host 'The connection is set up. It stands in the list of connections.'
if ($restart) { Write-Warning 'Restart the computer once before you connect: the gateway stands behind NAT.' }
