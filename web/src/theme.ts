import '@fontsource/ibm-plex-sans/400.css'
import '@fontsource/ibm-plex-sans/600.css'
import '@fontsource/ibm-plex-sans-condensed/500.css'
import '@fontsource/ibm-plex-sans-condensed/700.css'
import '@fontsource/ibm-plex-mono/400.css'
import '@fontsource/ibm-plex-mono/500.css'
import { createTheme } from '@mui/material/styles'

// The waybill: white sheet, hard rules, boxed fields. Every colour and size of the console is decided here.

declare module '@mui/material/styles' {
  interface Theme {
    rule: { field: string; section: string; hair: string; broken: string }
    font: { label: string; text: string; mono: string }
    draw: { ribbon: number; line: number; gap: number; stair: number; stationWidth: number; column: number; word: number }
  }
  interface ThemeOptions {
    rule?: Theme['rule']
    font?: Theme['font']
    draw?: Theme['draw']
  }
  interface TypographyVariants {
    code: React.CSSProperties
    label: React.CSSProperties
    value: React.CSSProperties
    mono: React.CSSProperties
  }
  interface TypographyVariantsOptions {
    code?: React.CSSProperties
    label?: React.CSSProperties
    value?: React.CSSProperties
    mono?: React.CSSProperties
  }
}
declare module '@mui/material/Typography' {
  interface TypographyPropsVariantOverrides {
    code: true
    label: true
    value: true
    mono: true
  }
}

export type Mode = 'day' | 'night'

const roles = {
  day: {
    sheet: '#FFFFFF',
    bench: '#EBEEF1',
    ink: '#0E1B2C',
    faded: '#556273',
    rule: '#0E1B2C',
    hairline: '#C9D1D9',
    action: '#1D4ED8',
    wrong: '#BE2A1A',
    unsettled: '#9A5B00',
    proven: '#1B6B4A',
  },
  night: {
    sheet: '#121A24',
    bench: '#0A1017',
    ink: '#E6ECF2',
    faded: '#A3B0BF',
    rule: '#C9D3DE',
    hairline: '#33404F',
    action: '#8FB4FF',
    wrong: '#FF8A7A',
    unsettled: '#F0B45A',
    proven: '#6FD0A4',
  },
}

// themeFor is how the console looks. Paper is white, and has the layout of a wide window in small print.
export function themeFor(mode: Mode, paper = false) {
  const c = roles[paper ? 'day' : mode]
  const font = { label: '"IBM Plex Sans Condensed", sans-serif', text: '"IBM Plex Sans", sans-serif', mono: '"IBM Plex Mono", monospace' }
  const rule = {
    field: `1px solid ${c.rule}`,
    section: `3px solid ${c.rule}`,
    hair: `1px solid ${c.hairline}`,
    broken: `3px dashed ${c.wrong}`,
  }
  const mono = { fontFamily: font.mono, fontSize: '0.875rem', fontVariantNumeric: 'tabular-nums', overflowWrap: 'anywhere' as const }
  return createTheme({
    ...(paper && { breakpoints: { values: { xs: 0, sm: 1, md: 2, lg: 3, xl: 4 } } }),
    rule,
    font,
    draw: { ribbon: 22, line: 3, gap: 14, stair: 110, stationWidth: 120, column: 1240, word: 84 },
    palette: {
      mode: mode === 'day' ? 'light' : 'dark',
      primary: { main: c.action },
      error: { main: c.wrong },
      warning: { main: c.unsettled },
      success: { main: c.proven },
      text: { primary: c.ink, secondary: c.faded },
      background: { default: c.bench, paper: c.sheet },
      divider: c.hairline,
    },
    shape: { borderRadius: 0 },
    shadows: Array(25).fill('none') as never,
    typography: {
      fontFamily: font.text,
      fontSize: 14,
      h2: { fontFamily: font.label, fontWeight: 700, fontSize: '1.25rem', lineHeight: 1.2 },
      code: { fontFamily: font.label, fontWeight: 700, fontSize: '2.75rem', lineHeight: 1, letterSpacing: '-0.01em' },
      label: { fontFamily: font.label, fontWeight: 500, fontSize: '0.75rem', lineHeight: 1.2, color: c.faded },
      value: { fontFamily: font.label, fontWeight: 700, fontSize: '1.25rem', lineHeight: 1.15 },
      mono,
      button: { textTransform: 'none', fontWeight: 600 },
    },
    components: {
      MuiTypography: { defaultProps: { variantMapping: { code: 'h1', label: 'span', value: 'span', mono: 'span' } } },
      MuiButton: {
        defaultProps: { disableElevation: true, disableRipple: true },
        styleOverrides: { root: { minHeight: 36, lineHeight: 1.2 }, outlined: { borderColor: c.rule, color: c.ink } },
      },
      MuiPaper: { defaultProps: { elevation: 0, square: true } },
      MuiDialog: { defaultProps: { transitionDuration: 0 }, styleOverrides: { paper: { border: rule.section, backgroundImage: 'none' } } },
      MuiOutlinedInput: { styleOverrides: { notchedOutline: { borderColor: c.rule } } },
      MuiTextField: { defaultProps: { size: 'small', fullWidth: true } },
      MuiLink: { defaultProps: { underline: 'always' } },
      MuiCssBaseline: {
        styleOverrides: {
          // What is printed is the page, not what is pressed on it.
          '@media print': {
            html: { zoom: 0.72, printColorAdjust: 'exact' },
            body: { backgroundColor: '#FFFFFF' },
            'button:not(.MuiLink-root), a.MuiButton-root, header, nav, [role="search"], input[type="search"], .MuiTextField-root, [data-bulk]':
              { display: 'none !important' },
            section: { breakInside: 'auto' },
            'h1, h2': { breakAfter: 'avoid' },
            '[data-line], [data-site], [data-fault], tr': { breakInside: 'avoid' },
            main: { maxWidth: 'none' },
          },
          '@page': { margin: '12mm' },
          ':focus-visible': { outline: `2px solid ${c.action}`, outlineOffset: '2px' },
        },
      },
    },
  })
}
