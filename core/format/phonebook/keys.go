package phonebook

import (
	"maps"
	"slices"
	"strings"

	"wardicon/core/format"
)

// usual are the keys that Windows itself writes into each entry, with what they have where nobody
// changed anything; "*" stands for any value. The formats of entries are Microsoft's (Remote Access
// Service, RASENTRY and phone-book files).
const usual = `
Encoding=* PBVersion=* AutoLogon=0 UseRasCredentials=* LowDateTime=* HighDateTime=*
DialParamsUID=* ExcludedProtocols=* LcpExtensions=1 SwCompression=0
NegotiateMultilinkAlways=0 SkipDoubleDialDialog=0 DialMode=* OverridePref=* RedialAttempts=*
RedialSeconds=* IdleDisconnectSeconds=0 CallbackMode=0 CustomDialDll= CustomDialFunc=
CustomRasDialDll= ForceSecureCompartment=0 DisableIKENameEkuCheck=0 AuthenticateServer=0
ShareMsFilePrint=* BindMsNetClient=* SharedPhoneNumbers=* GlobalDeviceSettings=0
PrerequisiteEntry= PrerequisitePbk= PreferredPort=* PreferredDevice=* PreferredBps=*
PreferredHwFlow=* PreferredProtocol=* PreferredCompression=* PreferredSpeaker=*
PreferredMdmProtocol=* PreviewUserPw=* PreviewDomain=* PreviewPhoneNumber=*
ShowDialingProgress=* ShowMonitorIconInTaskBar=* CustomAuthKey=* IpInterfaceMetric=0
IpHeaderCompression=* IpAddress=0.0.0.0 IpDnsAddress=0.0.0.0 IpDns2Address=0.0.0.0
IpWinsAddress=0.0.0.0 IpWins2Address=0.0.0.0 IpAssign=1 IpNameAssign=1 IpDnsFlags=0 IpNBTFlags=*
TcpWindowSize=0 UseFlags=* IpSecFlags=0 IpDnsSuffix= Ipv6Assign=1 Ipv6Address=::
Ipv6PrefixLength=0 Ipv6PrioritizeRemote=* Ipv6InterfaceMetric=0 Ipv6NameAssign=1
Ipv6DnsAddress=:: Ipv6Dns2Address=:: Ipv6Prefix=0000000000000000
Ipv6InterfaceId=0000000000000000 DisableClassBasedDefaultRoute=0 DisableMobility=0
NetworkOutageTime=0 IDI= IDR= ImsConfig=0 IdiType=0 IdrType=0 ProvisionType=0 PreSharedKey=
CacheCredentials=* NumCustomPolicy=0 NumEku=0 UseMachineRootCert=0
Disable_IKEv2_Fragmentation=0 PlumbIKEv2TSAsRoutes=0 NumServers=0 RouteVersion=* NumRoutes=0
NumNrptRules=0 AutoTiggerCapable=* NumAppIds=0 NumClassicAppIds=0 SecurityDescriptor=
ApnInfoProviderId= ApnInfoUsername= ApnInfoPassword= ApnInfoAccessPoint=
ApnInfoAuthentication=* ApnInfoCompression=0 DeviceComplianceEnabled=0
DeviceComplianceSsoEnabled=0 DeviceComplianceSsoEku= DeviceComplianceSsoIssuer= FlagsSet=*
Options=* DisableDefaultDnsSuffixes=0 NumTrustedNetworks=0 NumDnsSearchSuffixes=0
PowershellCreatedProfile=* ProxyFlags=0 ProxySettingsModified=* ProvisioningAuthority=
AuthTypeOTP=0 GREKeyDefined=0 NumPerAppTrafficFilters=0 AlwaysOnCapable=* DeviceTunnel=0
PrivateNetwork=* ManagementApp= NETCOMPONENTS= ms_msclient=* ms_server=* MEDIA=* Port=*
Device=* DEVICE=* AreaCode= CountryCode=* CountryID=* UseDialingRules=0 Comment=* FriendlyName=*
LastSelectedPhone=0 PromoteAlternates=0 TryNextAlternateOnFail=*`

var idle = func() map[string]string {
	table := map[string]string{}
	for word := range strings.FieldsSeq(usual) {
		key, v, _ := strings.Cut(word, "=")
		table[key] = v
	}
	return table
}()

// account tells of all that nobody asked for and that Windows does not write by itself.
func (e *entry) account(r *format.Reading) {
	for _, key := range slices.Sorted(maps.Keys(e.values)) {
		v, known := idle[key]
		if e.read[key] || known && (v == "*" || v == strings.TrimSpace(e.values[key])) {
			continue
		}
		what := key
		if known && len(e.values[key]) < 40 && key != "PreSharedKey" && key != "ApnInfoPassword" {
			what += "=" + e.values[key]
		}
		r.Left(what, e.places[key])
	}
}
