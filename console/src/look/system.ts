import { createSystem, defaultConfig, defineConfig } from '@chakra-ui/react';

/** A colour of the design by its dark and its light value. */
const both = (dark: string, light: string) => ({ value: { base: light, _dark: dark } });

/** The look of the console: tokens and type of the design, on top of Chakra's recipes. */
export const system = createSystem(
  defaultConfig,
  defineConfig({
    theme: {
      tokens: {
        fonts: {
          body: { value: "'Instrument Sans Variable', sans-serif" },
          heading: { value: "'Instrument Sans Variable', sans-serif" },
          mono: { value: "'JetBrains Mono Variable', monospace" },
        },
      },
      semanticTokens: {
        colors: {
          ground: both('#0f1720', '#f3f0e8'),
          pane: both('#121c27', '#faf8f3'),
          raised: both('#182431', '#efebe0'),
          mullion: both('#2b3947', '#cfc9ba'),
          chalk: both('#e9e6dc', '#1a2530'),
          muted: both('#93a1af', '#55636f'),
          faint: both('#64727f', '#8a938f'),
          glass: both('#7cc9a8', '#23775a'),
          amber: both('#e6ad4c', '#9a5f00'),
          brick: both('#e07a5f', '#ad3f26'),
          lit: both('#f3c969', '#f2bf45'),
          unlit: both('#1d2935', '#e2ddd0'),
          sel: both('#22374a', '#dfe7e6'),
          code: both('#b9d3e6', '#22506f'),
          onlit: both('#0f1720', '#1a2530'),
        },
      },
    },
    globalCss: {
      'html, body, #root': { height: '100%' },
      body: {
        bg: 'ground',
        color: 'chalk',
        fontSize: '14px',
        lineHeight: 1.5,
        fontVariantNumeric: 'tabular-nums',
      },
      '*': { borderColor: 'mullion' },
      '*:focus-visible': { outline: '2px solid', outlineColor: 'lit', outlineOffset: '1px' },
    },
  }),
);
