// The look, as tokens: every colour, space, size and font of the console is one of these.
import { createGlobalStyle } from 'styled-components'

export const token = {
  ground: 'var(--ground)',
  surface: 'var(--surface)',
  raised: 'var(--raised)',
  ink: 'var(--ink)',
  quiet: 'var(--quiet)',
  line: 'var(--line)',
  accent: 'var(--accent)',
  onAccent: 'var(--on-accent)',
  wash: 'var(--wash)',
  good: 'var(--good)',
  warn: 'var(--warn)',
  bad: 'var(--bad)',
  badWash: 'var(--bad-wash)',
  radius: '6px',
  gap: { small: '0.4rem', usual: '0.8rem', wide: '1.4rem' },
  type: { small: '0.85rem', usual: '0.9375rem', title: '1.2rem', head: '1.55rem' },
  serif: "'Iowan Old Style', 'Palatino Linotype', 'DejaVu Serif', Georgia, serif",
  sans: "system-ui, 'Segoe UI', 'DejaVu Sans', sans-serif",
} as const

export const GlobalStyle = createGlobalStyle`
  :root {
    color-scheme: light dark;
    --ground: #f4f1ea; --surface: #fffdf8; --raised: #ffffff; --ink: #1d2a33; --quiet: #55646e; --line: #d9d2c3;
    --accent: #0b5f6b; --on-accent: #ffffff; --wash: #e2eef0; --good: #2c6a3e; --warn: #835400; --bad: #9a2c27;
    --bad-wash: #f9e6e3;
  }
  @media (prefers-color-scheme: dark) {
    :root {
      --ground: #10171c; --surface: #172128; --raised: #1e2a32; --ink: #e9e4d8; --quiet: #a4b1b9; --line: #33424c;
      --accent: #6cc5cf; --on-accent: #0c2126; --wash: #1c353b; --good: #84c796; --warn: #e0b060; --bad: #f0938b;
      --bad-wash: #3a2221;
    }
  }
  *, *::before, *::after { box-sizing: border-box; }
  html { background: ${token.ground}; }
  body {
    margin: 0; color: ${token.ink}; background: ${token.ground};
    font: ${token.type.usual}/1.5 ${token.sans};
  }
  h1:focus { outline: none; }
  a { color: ${token.accent}; }
  h1 { margin: 0; font: 600 ${token.type.head}/1.25 ${token.serif}; }
  h2 { margin: 1rem 0 0.4rem; font: 600 ${token.type.title}/1.25 ${token.serif}; }
  :focus-visible, [data-focus-visible] { outline: 2px solid ${token.accent}; outline-offset: 2px; }
  @media (prefers-reduced-motion: reduce) { * { transition: none !important; animation: none !important; } }
`
