// The platforms in the order in which people look for them.
export const platforms = [
  { value: 'windows', text: 'Windows' },
  { value: 'macos', text: 'macOS' },
  { value: 'ios', text: 'iOS' },
  { value: 'ipados', text: 'iPadOS' },
  { value: 'android', text: 'Android' },
  { value: 'chromeos', text: 'ChromeOS' },
  { value: 'linux-desktop', text: 'Linux desktop' },
  { value: 'linux', text: 'Linux without desktop' },
  { value: 'openwrt', text: 'OpenWrt' },
  { value: 'desk-phone', text: 'Desk phone' },
]

export function platformText(value: string) {
  return platforms.find((p) => p.value === value)?.text ?? value
}
