import { theme, type ThemeConfig } from 'antd'

/** Version tones, light for older to deep for newer, each with ink that reads on it. */
export const tones = {
  light: [
    { fill: '#e3eff5', ink: '#14232c' },
    { fill: '#b4d5e6', ink: '#14232c' },
    { fill: '#68a9ca', ink: '#0b1a22' },
    { fill: '#16618c', ink: '#ffffff' },
  ],
  dark: [
    { fill: '#1c2c36', ink: '#dfe9ee' },
    { fill: '#25506a', ink: '#eef5f9' },
    { fill: '#3f87ad', ink: '#07141b' },
    { fill: '#8fd0f2', ink: '#07141b' },
  ],
} as const

export const older = {
  light: { fill: '#eceae6', ink: '#33312d' },
  dark: { fill: '#2a2a2a', ink: '#d5d5d5' },
} as const

export type Mode = 'light' | 'dark'

export function themeOf(mode: Mode): ThemeConfig {
  const dark = mode === 'dark'
  return {
    algorithm: dark ? [theme.darkAlgorithm, theme.compactAlgorithm] : [theme.compactAlgorithm],
    token: {
      fontFamily: "'Inter Variable', system-ui, sans-serif",
      fontSize: 14,
      colorPrimary: dark ? '#6fb9de' : '#16618c',
      colorInfo: dark ? '#6fb9de' : '#16618c',
      colorLink: dark ? '#8fd0f2' : '#16618c',
      colorError: dark ? '#ff8a66' : '#b93a10',
      colorWarning: dark ? '#e6b450' : '#8a5a00',
      colorTextBase: dark ? '#e8e6e1' : '#1b1a18',
      colorBgBase: dark ? '#14171a' : '#fbfaf8',
      colorBgContainer: dark ? '#14171a' : '#fbfaf8',
      colorBgElevated: dark ? '#1f2429' : '#ffffff',
      colorBorder: dark ? '#3b4046' : '#d8d5cf',
      colorBorderSecondary: dark ? '#2b2f34' : '#e7e4de',
      colorTextPlaceholder: dark ? '#a9a69f' : '#5d5a54',
      colorTextDescription: dark ? '#a9a69f' : '#5d5a54',
      borderRadius: 4,
      motion: !window.matchMedia('(prefers-reduced-motion: reduce)').matches,
      motionDurationMid: '0.12s',
      motionDurationSlow: '0.18s',
      boxShadowTertiary: 'none',
    },
    components: {
      Table: {
        headerBg: 'transparent',
        headerSplitColor: 'transparent',
        cellPaddingBlockSM: 5,
        cellPaddingInlineSM: 8,
        rowHoverBg: dark ? '#1c2126' : '#f3f1ec',
      },
      Button: {
        primaryShadow: 'none',
        defaultShadow: 'none',
        dangerShadow: 'none',
        ...(dark ? { primaryColor: '#07141b' } : {}),
      },
    },
  }
}
